import { ref } from 'vue'
import { confirming, type Problem } from '../api/client'

/** What can be done all the same once it was looked at, by its finding: what the button says. */
export const consequences: Record<string, string> = { 'entry-lost': 'Save it all the same', 'names-change': 'Give them the other names', 'unit-used': 'Remove it all the same', 'way-lost': 'Save it all the same', 'role-lost': 'Save it all the same' }

/** The digest that a consequence is confirmed with, once it was seen. */
const toConfirm = (p: Problem) => (p.finding && p.finding.code in consequences
  ? p.finding.evidence?.find((e) => e.label === 'To confirm')?.found : undefined)

/** Does things: whether one is under way, and what went wrong with the last. */
export function useAct(then: { done?: () => unknown, failed?: () => unknown, always?: () => unknown } = {}) {
  const busy = ref(false)
  const failed = ref<Problem>()
  /** confirm is the digest of a consequence that was looked at: for what does not begin its call at once. */
  async function act(does: (confirm?: string) => unknown, confirm?: string) {
    busy.value = true
    failed.value = undefined
    try {
      await (confirm ? confirming(confirm, async () => does(confirm)) : does())
      await then.done?.()
    } catch (e) {
      const digest = toConfirm(e as Problem)
      failed.value = digest ? { ...(e as Problem), again: () => act(does, digest) } : e as Problem
      then.failed?.()
    } finally {
      busy.value = false
    }
    await then.always?.()
  }
  return { busy, failed, act }
}
