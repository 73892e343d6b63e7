import { api, take, type Application, type Provider, type Sheet } from '../api/client'
import type { Field } from '../components/SettingsDrawer.vue'
import { applicationFields, providerFields } from './settings'

/** What providers and applications have in common. */
type Common = Omit<Provider & Application, 'settings' | 'wantAuthnRequestsSigned' | 'authnRequestsSigned' | '$schema'>
export type Row = Pick<Common, 'name' | 'title' | 'protocol' | 'entityId' | 'source' | 'revision' | 'added' | 'endpoints' | 'certificates' | 'nameIdFormats'> &
  Partial<Pick<Application, 'provider' | 'open' | 'ownStart'>> & { settings: Record<string, unknown> & { enabled: boolean } }

/** How the console works with one kind of object. */
export type Kind = {
  name: 'provider' | 'application'
  article: string
  sentence: string
  also: string[]
  list: (query: { search?: string; limit?: number; offset?: number }) => Promise<{ items: Row[]; total: number }>
  show: (name: string) => Promise<{ it: Row; sheet: Sheet }>
  fields: () => Promise<Field[]>
  save: (it: Row, settings: Record<string, unknown>) => Promise<unknown>
  remove: (name: string) => Promise<unknown>
}

const rows = (l: { items: unknown[] | null; total: number }) => ({ items: (l.items ?? []) as Row[], total: l.total })
const at = (name: string) => ({ params: { path: { name } } })

export const kinds: Record<Kind['name'], Kind> = {
  provider: {
    name: 'provider',
    article: 'a provider',
    sentence: 'Identity providers the gate sends people to.',
    also: ['IdP entity ID', 'issuer'],
    list: async (query) => rows(await take(api.GET('/api/v1/providers', { params: { query } }))),
    show: async (name) => {
      const [it, sheet] = await Promise.all([take(api.GET('/api/v1/providers/{name}', at(name))), take(api.GET('/api/v1/providers/{name}/exchange', at(name)))])
      return { it: it as unknown as Row, sheet }
    },
    fields: async () => providerFields,
    save: (it, settings) => take(api.PUT('/api/v1/providers/{name}/settings', { ...at(it.name), body: { revision: it.revision, settings: settings as Provider['settings'] } })),
    remove: (name) => take(api.DELETE('/api/v1/providers/{name}', at(name))),
  },
  application: {
    name: 'application',
    article: 'an application',
    sentence: 'What people want to reach.',
    also: ['SP entity ID', 'audience', 'identifier'],
    list: async (query) => rows(await take(api.GET('/api/v1/applications', { params: { query } }))),
    show: async (name) => {
      const [it, sheet] = await Promise.all([take(api.GET('/api/v1/applications/{name}', at(name))), take(api.GET('/api/v1/applications/{name}/exchange', at(name)))])
      return { it: it as unknown as Row, sheet }
    },
    fields: async () => applicationFields((await kinds.provider.list({ limit: 20000 })).items),
    save: (it, settings) => take(api.PUT('/api/v1/applications/{name}/settings', { ...at(it.name), body: { revision: it.revision, settings: settings as Application['settings'] } })),
    remove: (name) => take(api.DELETE('/api/v1/applications/{name}', at(name))),
  },
}
