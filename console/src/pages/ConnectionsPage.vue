<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Connection } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import ShortLanes from '../components/ShortLanes.vue'
import { useLoad } from '../composables/load'
import { ago, local, standings, type Standing } from '../composables/words'

const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const search = ref(text(route.query.search))
const rehearsed: Record<string, string> = { proved: 'proved by rehearsal', before: 'proved before the last change', failed: 'a rehearsal failed' }
const state = computed(() => text(route.query.state) as Standing | '')
const page = ref(1)
const size = 50
watch(search, (s) => { page.value = 1; void router.replace({ query: { ...route.query, search: s || undefined } }) })
watch(state, () => { page.value = 1 })
const { data, problem } = useLoad(() => take(api.GET('/api/v1/connections', { params: { query: {
  search: search.value || undefined, state: state.value || undefined, limit: size,
  offset: (page.value - 1) * size } } })), () => [search.value, state.value, page.value])
const { data: about } = useLoad(() => take(api.GET('/api/v1/gate')))
const { data: providers } = useLoad(() => take(api.GET('/api/v1/providers', { params: { query: { limit: 20000 } } })))
const { data: waiting } = useLoad(() => take(api.GET('/api/v1/waiting')))
const titles = computed(() => new Map((providers.value?.items ?? []).map((p) => [p.name, p.title])))
/** Which providers serve an application, in words. */
function served(c: Connection) {
  if (!c.attended) return { provider: 'nobody signs in', path: undefined }
  const all = providers.value?.items ?? []
  const only = c.provider || (all.length === 1 ? all[0]!.name : '')
  if (only) return { provider: titles.value.get(only) ?? only, path: `/connect/providers/${only}` }
  return { provider: all.length ? `the person chooses (${all.length})` : 'none yet', path: undefined }
}
const counts = computed(() => Object.keys(standings).flatMap((s) => {
  const n = data.value?.counts[s as Standing] ?? 0
  return n ? [{ state: s as Standing, n }] : []
}))
const all = computed(() => counts.value.reduce((sum, c) => sum + c.n, 0))
</script>

<template>
  <div class="head">
    <div>
      <h1>Connections</h1>
      <p>Each application with the way its people take, and whether it works; the worst first.</p>
    </div>
    <div class="tools">
      <router-link to="/connect/providers/add"><el-button>Add a provider</el-button></router-link>
      <router-link to="/connect/applications/add"><el-button type="primary">Add an application</el-button></router-link>
    </div>
  </div>
  <ProblemBox :problem="problem" />
  <section v-if="waiting?.total" class="sheet attention" aria-label="Waits for approval">
    <p v-for="w in (waiting.items ?? []).slice(0, 5)" :key="w.kind + w.name"><span class="waiting">○ waits for
      approval</span> <router-link :to="`/connect/${w.kind}s/${w.name}`">{{ w.title }}</router-link>: its metadata has
        changed</p>
    <p v-if="waiting.total > 5" class="quiet">and {{ waiting.total - 5 }} more</p>
  </section>
  <div v-if="about && !about.providers" class="sheet empty">
    <h2>First add a provider</h2>
    <p>You need its SAML metadata: a file, an address, or the text; an unfinished record can begin with less.</p>
    <router-link to="/connect/providers/add"><el-button type="primary">Add a provider</el-button></router-link>
  </div>
  <div v-else-if="about && !about.applications" class="sheet empty">
    <h2>Now add an application</h2>
    <p>You need its SAML metadata: a file, an address, or the text; an unfinished record can begin with less.</p>
    <router-link to="/connect/applications/add"><el-button type="primary">Add an application</el-button></router-link>
  </div>
  <template v-else-if="data">
    <div class="tools">
      <el-input v-model="search" clearable placeholder="Name, title or identity" aria-label="Search connections"
          name="search" style="width: 280px" />
      <router-link class="filter" :class="{ here: !state }" :to="{ query: { ...route.query, state: undefined } }">all
        {{ all }}</router-link>
      <router-link v-for="c in counts" :key="c.state" class="filter" :class="{ here: state === c.state }"
          :title="standings[c.state].means" :to="{ query: { ...route.query, state: c.state } }">{{ c.state }}
            {{ c.n }}</router-link>
    </div>
    <p v-if="!data.items?.length" class="sheet empty">Nothing matches.</p>
    <ul>
      <li v-for="c in data.items" :key="c.name" class="sheet">
        <strong class="state" :class="standings[c.state].tone"
            :title="standings[c.state].means">{{ standings[c.state].sign }} {{ c.state }}</strong>
        <ShortLanes :application="c.title" :application-path="`/connect/applications/${c.name}`"
            :provider="served(c).provider" :provider-path="served(c).path" :only-gate="c.protocol === 'link'" />
        <span class="told"><template v-if="c.worst"><span :class="c.errors ? 'refused' : 'waiting'">{{ c.worst }}</span>
          </template><template v-else-if="!c.lastSignIn"><span class="quiet">nobody has signed in yet</span></template>
          <template v-if="c.lastSignIn"><br v-if="c.worst" /><router-link
              :to="`/watch/traces/${c.lastSignIn.id}`" :title="local(c.lastSignIn.started)"
                  :class="{ refused: c.lastSignIn.result === 'refused' }">{{ c.lastSignIn.result }}
                    {{ ago(c.lastSignIn.started) }}</router-link>
            <code v-if="c.lastSignIn.finding" class="why">{{ c.lastSignIn.finding }}</code></template>
          <template v-if="c.accounts"><br /><router-link :to="`/connect/applications/${c.name}/accounts`" :title="local(c.accounts.at)">{{ c.accounts.fit }} of
            {{ c.accounts.of }} accounts fit</router-link></template>
          <template v-if="c.attended && c.proved !== 'never'"><br /><router-link :to="{ path: '/rehearse', query: { application: c.name } }"
              :class="{ refused: c.proved === 'failed', waiting: c.proved === 'before' }">{{ rehearsed[c.proved] }}</router-link></template></span>
        <a v-if="c.open && c.state !== 'unfinished' && c.state !== 'paused'" :href="c.open" target="_blank" rel="noopener">Try it</a>
        <span v-else></span>
        <router-link :to="{ path: '/watch/traces', query: { application: c.name } }">Traces</router-link>
      </li>
    </ul>
    <el-pagination v-if="data.total > size" v-model:current-page="page" :page-size="size" :total="data.total"
        layout="prev, pager, next" />
  </template>
</template>

<style scoped>
.why { margin-left: 6px }
.attention { padding: 12px 16px; margin-bottom: 12px; border-left: 4px solid var(--waiting) }
.attention p { margin: 0 }
ul { list-style: none; margin: 0; padding: 0 }
li { display: grid; grid-template-columns: 104px auto minmax(180px, 1fr) auto auto; gap: 20px; align-items: center; padding: 12px 16px; margin-bottom: 8px }
.told { font-size: 13px; overflow-wrap: anywhere }
.told a { display: inline-block; min-height: 24px; line-height: 24px }
.empty { padding: 24px }
.empty h2 { margin-top: 0 }
@media (max-width: 900px) { li { grid-template-columns: 1fr } }
</style>
