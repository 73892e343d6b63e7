import { ref, shallowRef, watch } from 'vue'
import { api, take, type Schemas } from '../api/client'

/** Asks what a change does to people. */
export type Asks<T> = (change: T) => Promise<Schemas['Consequence'] | undefined>
export const ofRecords: Asks<Schemas['Proposed']> = (body) => take(api.POST('/api/v1/consequences/preview', { body }))

/** What a change would do to people, a moment after it was typed; undefined for nothing yet. */
export function useConsequence<T>(change: () => T | undefined, ask: Asks<T>) {
  const got = shallowRef<Schemas['Consequence']>()
  const busy = ref(false)
  let turn = 0
  watch(() => JSON.stringify(change() ?? null), async () => {
    const mine = ++turn
    got.value = undefined
    const body = change()
    busy.value = !!body
    if (!body) return
    await new Promise((r) => setTimeout(r, 500))
    if (mine !== turn) return
    try {
      const out = await ask(body)
      if (mine === turn) got.value = out
    } catch { // what is wrong with the change is said where it is saved
    } finally {
      if (mine === turn) busy.value = false
    }
  }, { immediate: true })
  return { got, busy }
}
