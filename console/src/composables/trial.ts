import { ref, shallowRef, watch } from 'vue'
import { api, take, type Mapped, type Problem, type Schemas } from '../api/client'

/** Tries a mapping a moment after it was changed. body gives what is tried on what, undefined for nothing yet. */
export function useTrial(body: () => Promise<Schemas['MappingTrial'] | undefined>, on: () => unknown) {
  const tried = shallowRef<Mapped>()
  const refused = ref<Problem>()
  let turn = 0
  async function attempt() {
    const mine = ++turn
    await new Promise((r) => setTimeout(r, 250))
    if (mine !== turn) return
    try {
      const what = await body()
      const got = what && await take(api.POST('/api/v1/mapping-trials', { body: what }))
      if (mine === turn && got) [tried.value, refused.value] = [got, undefined]
    } catch (e) {
      if (mine === turn) refused.value = e as Problem
    }
  }
  watch(on, attempt, { immediate: true, deep: true })
  return { tried, refused }
}
