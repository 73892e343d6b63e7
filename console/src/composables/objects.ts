import { api, because, take, type Application, type Provider, type Refreshed, type Row, type Sheet } from '../api/client'
import { settingsOf, type Setting } from './settings'

/** What providers and applications have in common. */
type Common = Omit<Provider & Application, 'settings' | 'wantAuthnRequestsSigned' | 'authnRequestsSigned' | '$schema'>
export type Shown = Pick<Common,
  'id' | 'name' | 'title' | 'protocol' | 'entityId' | 'source' | 'revision' | 'added' | 'endpoints' | 'certificates' | 'facts' | 'missing' | 'taken' | 'standing'> &
  Partial<Pick<Application, 'provider' | 'attended' | 'open' | 'ownStart'>> & { settings: Record<string,
    unknown> & { phase: string } }

/** How the console works with one kind of object. */
export type Kind = {
  name: 'provider' | 'application'
  article: string
  sentence: string
  also: string[]
  list: (query: { search?: string; limit?: number; offset?: number }) => Promise<{ items: Row[]; total: number }>
  show: (name: string) => Promise<{ it: Shown; sheet: Sheet }>
  fields: (protocol: string) => Promise<Setting[]>
  save: (it: Shown, settings: Record<string, unknown>, why: string) => Promise<unknown>
  remove: (name: string, why: string) => Promise<unknown>
  refresh: (name: string, again?: boolean) => Promise<Refreshed>
  decide: (name: string, what: 'approve' | 'decline', digest: string, why: string) => Promise<unknown>
}

const rows = (l: { items: Row[] | null; total: number }) => ({ items: l.items ?? [], total: l.total })
const at = (name: string) => ({ params: { path: { name } } })

export const kinds: Record<Kind['name'], Kind> = {
  provider: {
    name: 'provider',
    article: 'a provider',
    sentence: 'Identity providers the gate sends people to.',
    also: ['IdP entity ID', 'issuer'],
    list: async (query) => rows(await take(api.GET('/api/v1/providers', { params: { query } }))),
    show: async (name) => {
      const [it, sheet] = await Promise.all([take(api.GET('/api/v1/providers/{name}', at(name))),
        take(api.GET('/api/v1/providers/{name}/exchange', at(name)))])
      return { it: it as unknown as Shown, sheet }
    },
    fields: (protocol) => settingsOf('provider', protocol),
    save: (it, settings, why) =>
      because(why, () => take(api.PATCH('/api/v1/providers/{name}/settings',
      { ...at(it.name), body: { revision: it.revision, settings: settings as Provider['settings'] } }))),
    remove: (name, why) => because(why, () => take(api.DELETE('/api/v1/providers/{name}', at(name)))),
    refresh: (name, again) => take(api.POST('/api/v1/providers/{name}/refresh',
      { params: { path: { name }, query: { again } } })),
    decide: (name, what, digest, why) =>
      because(why, () => take(what === 'approve'
        ? api.POST('/api/v1/providers/{name}/approve', { ...at(name), body: { digest } })
        : api.POST('/api/v1/providers/{name}/decline', { ...at(name), body: { digest } }))),
  },
  application: {
    name: 'application',
    article: 'an application',
    sentence: 'What people want to reach.',
    also: ['SP entity ID', 'audience', 'identifier'],
    list: async (query) => rows(await take(api.GET('/api/v1/applications', { params: { query } }))),
    show: async (name) => {
      const [it, sheet] = await Promise.all([take(api.GET('/api/v1/applications/{name}', at(name))),
        take(api.GET('/api/v1/applications/{name}/exchange', at(name)))])
      return { it: it as unknown as Shown, sheet }
    },
    fields: (protocol) => settingsOf('application', protocol),
    save: (it, settings, why) =>
      because(why, () => take(api.PATCH('/api/v1/applications/{name}/settings',
      { ...at(it.name), body: { revision: it.revision, settings: settings as Application['settings'] } }))),
    remove: (name, why) => because(why, () => take(api.DELETE('/api/v1/applications/{name}', at(name)))),
    refresh: (name, again) => take(api.POST('/api/v1/applications/{name}/refresh',
      { params: { path: { name }, query: { again } } })),
    decide: (name, what, digest, why) =>
      because(why, () => take(what === 'approve'
        ? api.POST('/api/v1/applications/{name}/approve', { ...at(name), body: { digest } })
        : api.POST('/api/v1/applications/{name}/decline', { ...at(name), body: { digest } }))),
  },
}
