import type { Job, Problem } from '../api/client'

/** Sends settings and a file as a form, and tells how far the sending is, from 0 to 1. */
export function uploadForm(path: string, settings: object | undefined, file: File,
  tell: (part: number) => void): Promise<Job> {
  const form = new FormData()
  if (settings) form.append('settings', JSON.stringify(settings))
  form.append('document', file)
  return new Promise((resolve, reject) => {
    const call = new XMLHttpRequest()
    call.upload.onprogress = (e) => tell(e.total ? e.loaded / e.total : 0)
    call.onload = () => {
      let answer: unknown
      try {
        answer = JSON.parse(call.responseText)
      } catch {
        answer = { title: `The gate answered ${call.status}`, status: call.status,
          type: 'about:blank' } satisfies Problem
      }
      if (call.status < 400) resolve(answer as Job)
      else reject(answer)
    }
    call.onerror = () => reject({ title: 'The gate does not answer', detail: 'See that it runs, then try again.',
      status: 0, type: 'about:blank' } satisfies Problem)
    call.open('POST', path)
    call.setRequestHeader('Innergate-Console', '1')
    call.send(form)
  })
}
