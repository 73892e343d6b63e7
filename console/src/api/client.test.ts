import { afterEach, expect, test, vi } from 'vitest'

const calls: { url: string; answer: (r: Response) => void }[] = []
vi.stubGlobal('fetch', (request: Request) => new Promise<Response>((answer) => { calls.push({ url: request.url, answer }) }))
vi.stubGlobal('location', { href: 'http://gate.example/console/' })
const RealRequest = Request
vi.stubGlobal('Request', class extends RealRequest {
  constructor(to: RequestInfo | URL, init?: RequestInit) { super(typeof to === 'string' ? new URL(to, 'http://gate.example/') : to, init) }
})

const { api, because, confirming, take } = await import('./client')
const said = (n: number) => Object.fromEntries(new URL(calls[n]!.url).searchParams)
const ready = async (n: number) => { await vi.waitFor(() => expect(calls.length).toBe(n)) }
const enable = () => take(api.POST('/api/v1/people/{number}/enable', { params: { path: { number: 1 } } }))
const done = (n: number) => calls[n]!.answer(new Response('{}', { headers: { 'Content-Type': 'application/json' } }))

afterEach(() => { calls.length = 0 })

test('calls that overlap keep their own remark and digest', async () => {
  const one = because('first', enable)
  const two = enable()
  const three = confirming('seen', () => because('third', enable))
  const four = because('fourth', enable, 'digest')
  await ready(4)
  const all = [0, 1, 2, 3].map(said)
  for (const own of [{ remark: 'first' }, {}, { confirm: 'seen', remark: 'third' }, { remark: 'fourth', confirm: 'digest' }]) expect(all).toContainEqual(own)
  const late = enable()
  done(3); done(2); done(1); done(0)
  await Promise.all([one, two, three, four])
  await ready(5)
  expect(said(4)).toEqual({})
  done(4)
  await late
})

test('what comes after an answer has no remark of before', async () => {
  const both = because('first', async () => { await enable(); return enable() })
  await ready(1)
  done(0)
  await ready(2)
  expect([0, 1].map(said)).toEqual([{ remark: 'first' }, {}])
  done(1)
  await both
})
