/** The last part of a URN or address, which people know it by. */
export const short = (urn: string) => urn.slice(Math.max(urn.lastIndexOf(':'), urn.lastIndexOf('/'),
  urn.lastIndexOf('#')) + 1)

/** How far away a date is. */
export function days(iso: string): string {
  const n = Math.floor((Date.parse(iso) - Date.now()) / 86_400_000)
  if (n < 0) return `${-n} days ago`
  if (n === 0) return 'today'
  return n === 1 ? 'in 1 day' : `in ${n} days`
}

/** Local date and time; seconds only where they tell something. */
export const local = (iso: string) => new Date(iso).toLocaleString(undefined, { year: 'numeric', month: 'short',
  day: 'numeric', hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23' })
export const localDate = (iso: string) => new Date(iso).toLocaleDateString(undefined, { dateStyle: 'medium' })

/** Saves text as a file. */
export function saveFile(name: string, text: string, type: string) {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text], { type }))
  a.download = name
  a.click()
  URL.revokeObjectURL(a.href)
}

/** What people call a protocol on record. */
export const protocols: Record<string, string> = { saml: 'SAML', link: 'Link' }
