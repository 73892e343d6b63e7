import { api, take, type Schemas } from '../api/client'

export type Setting = Schemas['Setting']

let described: Promise<Schemas['Kind'][]> | undefined
/** The settings of every kind of objects, as the gate describes them. */
const kinds = () => (described ??= take(api.GET('/api/v1/kinds')).then((l) => l ?? [], (e) => {
  described = undefined
  throw e
}))

/** The kinds, each once. */
export const kindsOf = async () => (await kinds()).filter((k, i, all) => all.findIndex((o) => o.kind === k.kind) === i)

/** Those that forms have: of a kind, and of a record in its protocol; rules have pages of their own. */
export async function settingsOf(kind: string, protocol = ''): Promise<Setting[]> {
  const own = (await kinds()).find((k) => k.kind === kind && (k.protocol ?? '') === protocol)?.settings ?? []
  return Promise.all(own.filter((s) => s.type !== 'rules' && s.refers !== 'set').map(async (s) => (s.refers ? { ...s, choices: await named(s) } : s)))
}

/** The objects that a setting can name. */
async function named(s: Setting) {
  const all = (await take(api.GET('/api/v1/objects/{kind}', { params: { path: { kind: s.refers! }, query: { limit: 20000 } } }))).items ?? []
  const choices = all.map((o) => ({ value: o.name, label: o.title || o.name }))
  return s.type === 'named' ? [{ value: '', label: s.default ?? (s.refers === 'provider' ? 'decided by the routing' : 'none') }, ...choices] : choices
}
