import { ref, shallowRef, watch, type Ref } from 'vue'
import type { Problem } from '../api/client'

/** Loads data now and whenever what it depends on changes. */
export function useLoad<T>(fetch: () => Promise<T>, on: () => unknown = () => null) {
  const data = shallowRef<T>() as Ref<T | undefined>
  const problem = ref<Problem>()
  const loading = ref(false)
  let turn = 0
  async function load() {
    const mine = ++turn
    loading.value = true
    try {
      const got = await fetch()
      if (mine !== turn) return
      data.value = got
      problem.value = undefined
    } catch (e) {
      if (mine === turn) problem.value = e as Problem
    } finally {
      if (mine === turn) loading.value = false
    }
  }
  watch(on, load, { immediate: true })
  return { data, problem, loading, load }
}
