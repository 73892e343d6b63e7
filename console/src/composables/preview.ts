import { ref } from 'vue'
import { because, type Problem } from '../api/client'

/** What is looked at before it is done: a preview with a digest, and then the doing of just that, with a remark. */
export function usePreview<T extends { digest: string }>(call: (how: { preview: boolean; digest?: string }) => Promise<T>, after: () => unknown) {
  const why = ref('')
  const seen = ref<T>()
  const done = ref<T>()
  const failed = ref<Problem>()
  const forget = () => { seen.value = undefined }
  async function run(digest?: string) {
    failed.value = done.value = undefined
    try {
      const out = await because(digest ? why.value : '', () => call({ preview: !digest, digest }))
      seen.value = digest ? undefined : out
      if (!digest) return
      done.value = out
      why.value = ''
      await after()
    } catch (e) {
      seen.value = undefined
      failed.value = e as Problem
    }
  }
  return { why, seen, done, failed, run, forget }
}
