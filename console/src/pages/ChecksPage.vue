<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, take } from '../api/client'
import FindingBox from '../components/FindingBox.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'

const route = useRoute()
const severity = computed(() => (typeof route.query.severity === 'string' ? route.query.severity
  : '') as '' | 'error' | 'warning' | 'note')
const search = ref('')
const shown = ref(50)
const { data, problem, load, loading } = useLoad(() => take(api.GET('/api/v1/checks',
  { params: { query: { limit: 20000 } } })))
const signs: Record<string, [string, string]> = { error: ['refused', '✕'], warning: ['waiting', '▲'],
  note: ['note', '●'] }
/** One line for each finding, the worst first. */
const rows = computed(() => {
  const text = search.value.toLowerCase()
  return (data.value?.items ?? [])
    .flatMap((r) => (r.findings ?? []).map((f) => ({ ...r, f })))
    .filter((r) => (!severity.value || r.f.severity === severity.value) &&
      `${r.name} ${r.title} ${r.f.code} ${r.f.title}`.toLowerCase().includes(text))
    .sort((a, b) => Object.keys(signs).indexOf(a.f.severity) - Object.keys(signs).indexOf(b.f.severity))
})
const count = (s: string) => (s ? (data.value?.counts[s] ?? 0) : Object.values(data.value?.counts ?? {}).reduce((a,
  b) => a + b, 0))
</script>

<template>
  <div class="head">
    <div>
      <h1>Checks</h1>
      <p>What can be known of every record without a sign-in: each finding with its evidence, the side that must act,
        and what to do.</p>
    </div>
    <el-button :loading="loading" @click="load">Check again</el-button>
  </div>
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Record or finding" aria-label="Search" style="width: 320px" />
    <router-link v-for="s in ['', 'error', 'warning', 'note']" :key="s" class="filter"
        :class="{ here: s === severity }"
            :to="{ query: { severity: s || undefined } }">{{ { '': 'all', error: 'errors', warning: 'warnings', note: 'notes' }[s] }} {{ count(s) }}</router-link>
  </div>
  <ProblemBox :problem="problem" />
  <p v-if="data && !count('')" class="sheet empty"><span class="passed">● Nothing found.</span> Every record is in
    order as far as can be known without a sign-in.</p>
  <details v-for="(r, i) in rows.slice(0, shown)" :key="i" class="sheet" :open="i < 3">
    <summary><span :class="signs[r.f.severity]![0]">{{ signs[r.f.severity]![1] }} {{ r.f.severity }}</span>
      <router-link :to="`/connect/${r.kind}s/${r.name}`">{{ r.title }}</router-link>
        <span>{{ r.f.title }} <code class="quiet">{{ r.f.code }}</code></span></summary>
    <FindingBox :finding="r.f" bare />
  </details>
  <p v-if="rows.length > shown" class="tools"><el-button @click="shown += 200">Show more of
    {{ rows.length }}</el-button></p>
</template>

<style scoped>
details { margin-bottom: 8px; padding: 8px 16px }
summary { cursor: pointer; display: grid; grid-template-columns: 90px 260px 1fr; gap: 16px }
summary > * { overflow: hidden; text-overflow: ellipsis }
.empty { padding: 16px 24px }
@media (max-width: 900px) { summary { grid-template-columns: 1fr } }
</style>
