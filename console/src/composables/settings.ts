import { api, take, type Schemas } from '../api/client'

export type Setting = Schemas['Setting']

let described: Promise<Schemas['Kind'][]> | undefined
/** The settings of every kind of objects, as the gate describes them. */
const kinds = () => (described ??= take(api.GET('/api/v1/kinds')).then((l) => l ?? [], (e) => {
  described = undefined
  throw e
}))

/** Those that forms have: of a kind, and of a record in its protocol; rules have pages of their own. */
export async function settingsOf(kind: string, protocol = ''): Promise<Setting[]> {
  const own = (await kinds()).find((k) => k.kind === kind && (k.protocol ?? '') === protocol)?.settings ?? []
  return Promise.all(own.filter((s) => s.type !== 'rules' && s.refers !== 'set').map(async (s) => s.refers === 'provider'
    ? { ...s, choices: [{ value: '', label: 'decided by the routing' }, ...await names()] } : s))
}

const names = async () => ((await take(api.GET('/api/v1/providers', { params: { query: { limit: 20000 } } }))).items ?? [])
  .map((p) => ({ value: p.name, label: p.title }))
