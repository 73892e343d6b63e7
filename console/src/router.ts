import { createRouter, createWebHistory } from 'vue-router'
import { session } from './composables/session'

export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', redirect: '/connect' },
    { path: '/setup', component: () => import('./pages/SetupPage.vue'), meta: { open: true, title: 'Set up' } },
    { path: '/sign-in', component: () => import('./pages/SignInPage.vue'), meta: { open: true, title: 'Sign in' } },
    { path: '/connect', component: () => import('./pages/ConnectionsPage.vue'), meta: { title: 'Connections' } },
    { path: '/connect/providers', component: () => import('./pages/ObjectListPage.vue'), props: { kind: 'provider' },
      meta: { title: 'Providers' } },
    { path: '/connect/providers/add', component: () => import('./pages/AddPage.vue'), props: { kind: 'provider' },
      meta: { title: 'Add a provider' } },
    { path: '/connect/providers/:name', component: () => import('./pages/ObjectPage.vue'),
      props: (to) => ({ kind: 'provider', name: to.params.name }), meta: { title: 'Provider' } },
    { path: '/connect/applications', component: () => import('./pages/ObjectListPage.vue'),
      props: { kind: 'application' }, meta: { title: 'Applications' } },
    { path: '/connect/applications/add', component: () => import('./pages/AddPage.vue'),
      props: { kind: 'application' }, meta: { title: 'Add an application' } },
    { path: '/connect/applications/:name', component: () => import('./pages/ObjectPage.vue'),
      props: (to) => ({ kind: 'application', name: to.params.name }), meta: { title: 'Application' } },
    { path: '/connect/applications/:name/subjects', component: () => import('./pages/SubjectsPage.vue'), props: true,
      meta: { title: 'Subjects' } },
    { path: '/connect/applications/:name/entrants', component: () => import('./pages/EntrantsPage.vue'), props: true,
      meta: { title: 'Who enters' } },
    { path: '/connect/applications/:name/grants', component: () => import('./pages/GrantsPage.vue'), props: true,
      meta: { title: 'Grants' } },
    { path: '/connect/providers/:name/mapping', component: () => import('./pages/MappingPage.vue'),
      props: (to) => ({ kind: 'provider', name: to.params.name }), meta: { title: 'Intake mapping' } },
    { path: '/connect/applications/:name/mapping', component: () => import('./pages/MappingPage.vue'),
      props: (to) => ({ kind: 'application', name: to.params.name }), meta: { title: 'Release mapping' } },
    { path: '/connect/aggregates', component: () => import('./pages/AggregatesPage.vue'),
      meta: { title: 'Aggregates' } },
    { path: '/connect/aggregates/:name', component: () => import('./pages/AggregatePage.vue'), props: true,
      meta: { title: 'Aggregate' } },
    { path: '/map', component: () => import('./pages/MapPage.vue'), meta: { title: 'Mappings' } },
    { path: '/map/sets', component: () => import('./pages/SetsPage.vue'), meta: { title: 'Sets' } },
    { path: '/map/sets/:name', component: () => import('./pages/SetPage.vue'), props: true, meta: { title: 'Set' } },
    { path: '/admit', redirect: '/admit/people' },
    { path: '/admit/people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/admit/people/:number', component: () => import('./pages/PersonPage.vue'), props: true,
      meta: { title: 'Person' } },
    { path: '/admit/groups', component: () => import('./pages/UnitsPage.vue'), props: { kind: 'group' }, meta: { title: 'Groups' } },
    { path: '/admit/rules', component: () => import('./pages/RulesPage.vue'), meta: { title: 'Rules' } },
    { path: '/watch/events', component: () => import('./pages/EventsPage.vue'), meta: { title: 'Events' } },
    { path: '/admit/portal', component: () => import('./pages/PortalPage.vue'), meta: { title: 'Portal' } },
    { path: '/admit/roles', component: () => import('./pages/RolesPage.vue'), meta: { title: 'Roles' } },
    { path: '/admit/requests', component: () => import('./pages/RequestsPage.vue'), meta: { title: 'Requests for entry' } },
    { path: '/admit/selection', component: () => import('./pages/SelectionPage.vue'), meta: { title: 'Provider selection' } },
    { path: '/admit/organisations', component: () => import('./pages/UnitsPage.vue'), props: { kind: 'organisation' }, meta: { title: 'Organisations' } },
    { path: '/admit/import', component: () => import('./pages/ImportPage.vue'), meta: { title: 'Import people' } },
    { path: '/connect/applications/:name/accounts', component: () => import('./pages/AccountsPage.vue'), props: true,
      meta: { title: 'Accounts' } },
    { path: '/rehearse', component: () => import('./pages/RehearsalsPage.vue'), meta: { title: 'Rehearsals' } },
    { path: '/rehearse/:name', component: () => import('./pages/RehearsalPage.vue'), props: true,
      meta: { title: 'Rehearsal' } },
    { path: '/watch', redirect: '/watch/traces' },
    { path: '/watch/live', component: () => import('./pages/LivePage.vue'), meta: { title: 'Live' } },
    { path: '/watch/traces', component: () => import('./pages/TracesPage.vue'), meta: { title: 'Traces' } },
    { path: '/watch/traces/:id', component: () => import('./pages/TracePage.vue'), props: true,
      meta: { title: 'Trace' } },
    { path: '/watch/checks', component: () => import('./pages/ChecksPage.vue'), meta: { title: 'Checks' } },
    { path: '/watch/notices', component: () => import('./pages/NoticesPage.vue'), meta: { title: 'Notices' } },
    { path: '/keep', redirect: '/keep/keys' },
    { path: '/keep/keys', component: () => import('./pages/KeysPage.vue'), meta: { title: 'Keys' } },
    { path: '/keep/contexts', component: () => import('./pages/ContextsPage.vue'), meta: { title: 'Contexts' } },
    { path: '/keep/objects/:kind?', component: () => import('./pages/ObjectsPage.vue'), meta: { title: 'Objects' } },
    { path: '/keep/links', component: () => import('./pages/LinksPage.vue'), meta: { title: 'Links' } },
    { path: '/keep/history', component: () => import('./pages/HistoryPage.vue'), meta: { title: 'History' } },
    { path: '/keep/history/:id', component: () => import('./pages/ChangePage.vue'), props: true,
      meta: { title: 'Change' } },
    { path: '/keep/owners', component: () => import('./pages/OwnersPage.vue'), meta: { title: 'Owners' } },
    { path: '/keep/tokens', component: () => import('./pages/TokensPage.vue'), meta: { title: 'Tokens' } },
    { path: '/:rest(.*)*', component: () => import('./pages/NotFoundPage.vue'), meta: { title: 'No such page' } },
  ],
})

router.beforeEach(async (to) => {
  if (to.meta.open) return true
  await session.load()
  if (session.username.value) return true
  return { path: '/sign-in', query: { to: to.fullPath } }
})

router.afterEach((to) => {
  document.title = `${String(to.params.name ?? to.params.id ?? (to.params.number ? `Person ${String(to.params.number)}` : to.meta.title))} · Inner Gate`
})
