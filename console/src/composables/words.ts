import type { KnownBy, Schemas } from '../api/client'

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

/** How far away a time is that comes soon. */
export function soon(iso: string): string {
  const minutes = Math.max(1, Math.round((Date.parse(iso) - Date.now()) / 60_000))
  if (minutes < 90) return `in ${minutes} min`
  return minutes < 48 * 60 ? `in ${Math.round(minutes / 60)} h` : days(iso)
}

/** Local date and time; seconds only where they tell something. */
export const local = (iso: string) => new Date(iso).toLocaleString(undefined, { year: 'numeric', month: 'short',
  day: 'numeric', hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23' })
export const localDate = (iso: string) => new Date(iso).toLocaleDateString(undefined, { dateStyle: 'medium' })

/** Saves text or octets as a file. */
export function saveFile(name: string, content: string | Uint8Array<ArrayBuffer>, type: string) {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([content], { type }))
  a.download = name
  a.click()
  URL.revokeObjectURL(a.href)
}

/** What people call a protocol on record. */
export const protocols: Record<string, string> = { saml: 'SAML', oidc: 'OpenID Connect', oauth2: 'OAuth 2.0', link: 'Link' }

/** How long ago a time is. */
export function ago(iso: string): string {
  const minutes = Math.floor((Date.now() - Date.parse(iso)) / 60_000)
  if (minutes < 1) return 'just now'
  if (minutes < 60) return `${minutes} min ago`
  const hours = Math.floor(minutes / 60)
  if (hours < 48) return `${hours} h ago`
  return `${Math.floor(hours / 24)} days ago`
}

/** The label of a value, with the binding of an address. */
export const named = (v: { label: string; binding?: string }) => (v.binding ? `${v.label} by ${v.binding}` : v.label)

/** By what something is known of people. */
export const known = (s: KnownBy) => (s.provider ? s.provider.title || s.provider.name || s.provider.id
  : { hand: 'typed here', import: 'a list', person: 'themselves', organisation: 'their organisation', provider: '' }[s.word])

/** How an account of an application and people fit: sign, tone, and what it means. */
export const verdicts: Record<string, { sign: string; tone: string; means: string }> = {
  exact: { sign: '●', tone: 'passed', means: 'The application finds the person.' },
  case: { sign: '▲', tone: 'waiting', means: 'The same but for capital and small letters.' },
  'white space': { sign: '▲', tone: 'waiting', means: 'The same but for white space.' },
  domain: { sign: '▲', tone: 'waiting', means: 'The same but for the domain.' },
  ambiguous: { sign: '◆', tone: 'refused', means: 'Several people fit, or the one who does has another account.' },
  disabled: { sign: '✕', tone: 'refused', means: 'The account of somebody who is let in no more.' },
  'missing here': { sign: '○', tone: 'refused', means: 'An account that fits nobody who is known here.' },
  'missing there': { sign: '○', tone: 'note', means: 'A person, and no account.' },
}

export type Standing = 'broken' | 'failing' | 'attention' | 'unfinished' | 'untried' | 'paused' | 'works'
/** Whether a record works, the worst first: sign, tone, and what it means. */
export const standings: Record<Standing, { sign: string; tone: string; means: string }> = {
  broken: { sign: '✕', tone: 'refused', means: 'a finding says that it cannot work' },
  failing: { sign: '✕', tone: 'refused', means: 'the last sign-in was refused' },
  attention: { sign: '▲', tone: 'waiting', means: 'a change waits, a refresh failed, or there are warnings' },
  unfinished: { sign: '○', tone: 'waiting', means: 'values of the other side are missing' },
  untried: { sign: '○', tone: 'note', means: 'nobody has signed in yet' },
  paused: { sign: '○', tone: 'waiting', means: 'nobody is let pass' },
  works: { sign: '●', tone: 'passed', means: 'the last sign-in entered' },
}

// By what values of a person are proved (API: PersonValue.proofs).
const proofNames: Record<string, [string, string]> = {
  '': ['▲ not proved', 'Nothing proves it: it lets nobody in'], mail: ['by mailed code', 'The person typed a code that was mailed to it'],
  engineer: ['by an engineer', 'It was typed here, or came in a list'], domain: ['by its domain', 'The provider stands for the domain of the address'],
  flag: ['said verified', 'The provider said that it is verified'], record: ['by its record', "The provider's record names the attribute"] }
const each = (list: string[], at: 0 | 1) => [...new Set(list.map((p) => proofNames[p]?.[at] ?? p))].join(', ')
export const proofs = (list: string[]) => each(list, 0)
export const proofHint = (list: string[]) => each(list, 1)

/** Numbers of people and sign-ins in words. */
/** An end, as it was typed: of a day, where it is that of one. */
export const ends = (at: string) => (at.endsWith('T00:00:00Z') ? `the end of ${new Date(Date.parse(at) - 86400000).toISOString().slice(0, 10)} (UTC)` : local(at))
export const times = (n: number) => (n === 1 ? 'once' : `${n} times`)
/** What was done to somebody, in a line. */
export function done(d: Schemas['PersonDid']): string {
  const units = (all?: Schemas['UnitName'][] | null) => (all ?? []).map((u) => u.name)
  const parts = ([['values of', d.values], ['joined', units(d.joined)], ['left', units(d.left)], ['stays in', units(d.stays)], ['linked to', d.linked],
    ['no longer linked to', d.unlinked], ['admitted to', d.admitted], ['no longer admitted to', d.unadmitted], ['known to', d.known]] as [string, string[] | null | undefined][])
    .flatMap(([what, of]) => (of?.length ? [`${what} ${of.join(', ')}`] : []))
  return [...(d.state ? [d.state] : []), ...(d.other ? [`person ${d.other}`] : []), ...parts, ...(d.more ? [`and ${d.more} more`] : [])].join('; ') || '(the person is gone)'
}

export const people = (n: number) => (n === 1 ? '1 person' : `${n} people`)
export const signIns = (n: number) => (n === 1 ? '1 sign-in' : `${n} sign-ins`)

/** NameID formats by which people are known again (SAML core §8.3). */
export const nameIDFormats = ['emailAddress', 'persistent', 'unspecified']
