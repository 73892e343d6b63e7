import createClient from 'openapi-fetch'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']
export type Provider = Schemas['Provider']
export type Application = Schemas['Application']
export type Certificate = Schemas['Certificate']
export type Endpoint = Schemas['Endpoint']
export type Sheet = Schemas['Sheet']
export type Trace = Schemas['Trace']
export type Mapped = Schemas['Mapped']
export type MappedValues = Schemas['MappedValues']
export type TraceHead = Schemas['TraceHead']
export type TraceStep = Schemas['TraceStep']
export type Finding = Schemas['Finding']
export type Token = Schemas['Token']
/** What went wrong; again does the same once more, where a consequence has only to be confirmed. */
export type Problem = Schemas['Problem'] & { again?: () => unknown }
export type Row = Schemas['Row']
export type Preview = Schemas['Preview']
export type Difference = Schemas['Difference']
export type Connection = Schemas['Connection']
export type Found = Schemas['Found']
export type Acknowledged = Schemas['Acknowledged']
export type Given = { metadata?: string; metadataBase64?: string; address?: string; entity?: string; typed?: Record<string, string> }
export type Job = Schemas['Job']
export type Aggregate = Schemas['Aggregate']
export type Entity = Schemas['Entity']
export type Refreshed = Schemas['Refreshed']
export type Pending = Schemas['Pending']
export type Link = Schemas['Link']
export type KnownSubject = Schemas['KnownSubject']
export type Change = Schemas['Change']
export type Checked = Schemas['Checked']
export type Person = Schemas['Person']
export type Membership = Schemas['Membership']
export type PersonJoined = Schemas['PersonJoined']
export type KnownBy = Schemas['KnownBy']
export type Unit = Schemas['Unit']
export type StepPair = Schemas['StepPair']
export type Run = Schemas['Run']
export type TraceNews = Omit<Schemas['TraceNews'], '$schema'>

/** Calls the gate that served the console. The header is what a form of another site cannot send. */
export const api = createClient<paths>({ baseUrl: '/', headers: { 'Innergate-Console': '1' } })

/** What goes with the calls that are being begun, and with no others: each call takes it along when it begins. */
let beside: Record<string, string> = {}
api.use({
  async onRequest({ request }) {
    if (!Object.keys(beside).length || request.method === 'GET') return undefined
    const url = new URL(request.url)
    for (const [name, value] of Object.entries(beside)) url.searchParams.set(name, value)
    return new Request(url, { method: request.method, headers: request.headers, body: (await request.text()) ||
      undefined })
  },
})

/** Makes a change with a remark: why. It is kept with it in the history. The change begins its call at once; digest is that of
 * a consequence that was looked at, where something is waited for before. */
export const because = <T>(why: string, change: () => Promise<T>, digest?: string) => having({
  ...(why.trim() ? { remark: why.trim() } : {}), ...(digest ? { confirm: digest } : {}) }, change)

/** Makes a change whose consequence was looked at; digest is that of what was seen. The change begins its call at once. */
export const confirming = <T>(digest: string, change: () => Promise<T>) => having({ confirm: digest }, change)

function having<T>(query: Record<string, string>, change: () => Promise<T>): Promise<T> {
  const before = beside
  beside = { ...before, ...query }
  try {
    return change()
  } finally {
    beside = before
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Gives the data of an answer, or throws its problem. */
export async function take<T>(answer: Promise<Answer<T>>): Promise<T> {
  let a: Answer<T>
  try {
    a = await answer
  } catch {
    throw { title: 'The gate does not answer', detail: 'See that it runs, then try again.', status: 0,
      type: 'about:blank' } satisfies Problem
  }
  if (!a.response.ok) throw a.error as Problem
  return a.data as T
}
