<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import ShortLanes from '../components/ShortLanes.vue'
import { useLoad } from '../composables/load'

const query = { limit: 200 }
const { data, problem } = useLoad(async () => {
  const [apps, providers] = await Promise.all([take(api.GET('/api/v1/applications', { params: { query } })),
    take(api.GET('/api/v1/providers', { params: { query: { limit: 20000 } } }))])
  return { apps, providers }
})
const { data: waiting } = useLoad(() => take(api.GET('/api/v1/waiting')))
const { data: checks } = useLoad(() => take(api.GET('/api/v1/checks',
  { params: { query: { severity: 'error', limit: 1 } } })))
const providers = computed(() => data.value?.providers.items ?? [])
/** Which providers serve an application, in words. */
function served(by?: string) {
  if (by) return { provider: providers.value.find((p) => p.name === by)?.title ?? by, path: `/connect/providers/${by}` }
  if (providers.value.length === 1) return { provider: providers.value[0]!.title,
    path: `/connect/providers/${providers.value[0]!.name}` }
  return { provider: providers.value.length ? `the person chooses (${providers.value.length})` : 'none yet',
    path: undefined }
}
</script>

<template>
  <div class="head">
    <div>
      <h1>Connections</h1>
      <p>Each application with the way its people take: from the application through the gate to their provider, and
        back.</p>
    </div>
    <div class="tools">
      <router-link to="/connect/providers/add"><el-button>Add a provider</el-button></router-link>
      <router-link to="/connect/applications/add"><el-button type="primary">Add an application</el-button></router-link>
    </div>
  </div>
  <ProblemBox :problem="problem" />
  <section v-if="waiting?.total || checks?.counts.error" class="sheet attention" aria-label="Needs attention">
    <p v-for="w in waiting?.items ?? []" :key="w.kind + w.name"><span class="waiting">○ waits for approval</span>
      <router-link :to="`/connect/${w.kind}s/${w.name}`">{{ w.title }}</router-link>: its metadata has changed</p>
    <p v-if="checks?.counts.error"><span class="refused">✕ {{ checks.counts.error }}
      {{ checks.counts.error === 1 ? 'error' : 'errors' }}</span> found by <router-link
          to="/watch/checks?severity=error">checks</router-link></p>
  </section>
  <template v-if="data">
    <div v-if="!data.providers.total" class="sheet empty">
      <h2>First add a provider</h2>
      <p>You need its SAML metadata: a file, an address, or the text; an unfinished record can begin with less.</p>
      <router-link to="/connect/providers/add"><el-button type="primary">Add a provider</el-button></router-link>
    </div>
    <div v-else-if="!data.apps.total" class="sheet empty">
      <h2>Now add an application</h2>
      <p>You need its SAML metadata: a file, an address, or the text; an unfinished record can begin with less.</p>
      <router-link to="/connect/applications/add"><el-button type="primary">Add an application</el-button></router-link>
    </div>
    <ul v-else>
      <li v-for="a in data.apps.items" :key="a.name" class="sheet">
        <ShortLanes :application="a.title" :application-path="`/connect/applications/${a.name}`"
            :provider="served(a.provider).provider" :provider-path="served(a.provider).path" :only-own="!!a.ownStart"
                :only-gate="a.protocol === 'link'" />
        <span class="quiet start">starts at the
          {{ a.protocol === 'link' ? 'gate' : `application${a.ownStart ? ' only' : ' or at the gate'}` }}</span>
        <a :href="a.open" target="_blank" rel="noopener">Try it</a>
        <router-link :to="{ path: '/watch/traces', query: { application: a.name } }">Traces</router-link>
      </li>
    </ul>
    <p v-if="data.apps.total > (data.apps.items?.length ?? 0)" class="quiet">{{ data.apps.total }} applications; the
      first {{ data.apps.items?.length }} are shown. Find the others with the search box, or in the list of
        applications.</p>
  </template>
</template>

<style scoped>
.attention { padding: 12px 16px; margin-bottom: 12px; border-left: 4px solid var(--waiting) }
.attention p { margin: 0 }
ul { list-style: none; margin: 0; padding: 0 }
li { display: flex; gap: 24px; align-items: center; padding: 12px 16px; margin-bottom: 8px }
.start { flex: 1 }
.empty { padding: 24px }
.empty h2 { margin-top: 0 }
@media (max-width: 900px) { li { flex-wrap: wrap } }
</style>
