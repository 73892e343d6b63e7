import { ref } from 'vue'
import type { Problem } from '../api/client'

/** Does things: whether one is under way, and what went wrong with the last. */
export function useAct(then: { done?: () => unknown, failed?: () => unknown, always?: () => unknown } = {}) {
  const busy = ref(false)
  const failed = ref<Problem>()
  async function act(does: () => unknown) {
    busy.value = true
    failed.value = undefined
    try {
      await does()
      await then.done?.()
    } catch (e) {
      failed.value = e as Problem
      then.failed?.()
    } finally {
      busy.value = false
    }
    await then.always?.()
  }
  return { busy, failed, act }
}
