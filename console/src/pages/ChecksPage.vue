<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, take } from '../api/client'
import AcknowledgeForm from '../components/AcknowledgeForm.vue'
import FindingBox from '../components/FindingBox.vue'
import KnownFindings from '../components/KnownFindings.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'

const route = useRoute()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const severity = computed(() => text(route.query.severity) as '' | 'error' | 'warning' | 'note')
const side = computed(() => text(route.query.side) as '' | 'provider' | 'application' | 'gate')
const code = computed(() => text(route.query.code))
const search = ref('')
const size = 25
const shown = ref(size)
watch(code, () => { shown.value = size })
/** All findings by code, whatever code is looked at. */
const { data, problem, load: count, loading } = useLoad(() => take(api.GET('/api/v1/checks',
  { params: { query: { limit: 1, severity: severity.value || undefined, side: side.value || undefined } } })),
  () => [severity.value, side.value])
/** The records that have the finding that is looked at. */
const { data: records, problem: failed, load: list } = useLoad(async () => (code.value ? take(api.GET('/api/v1/checks',
  { params: { query: { code: code.value, side: side.value || undefined, limit: 20000 } } })) : undefined),
  () => [code.value, side.value])
async function again() { await Promise.all([count(), list()]) }
const signs: Record<string, [string, string]> = { error: ['refused', '✕'], warning: ['waiting', '▲'],
  note: ['note', '●'] }
const number = (s: string) => (s ? (data.value?.counts[s] ?? 0) : Object.values(data.value?.counts ?? {}).reduce((a,
  b) => a + b, 0))
const matching = computed(() => (records.value?.items ?? []).filter((r) => `${r.name} ${r.title}`.toLowerCase()
  .includes(search.value.toLowerCase())))
const places: Record<string, string> = { gate: '/keep/keys', recipient: '/watch/events' }
const path = (r: { kind: string; name: string }) => places[r.kind] ?? `/connect/${r.kind}s/${r.name}`
</script>

<template>
  <div class="head">
    <div>
      <h1>Checks</h1>
      <p>What can be known without a sign-in, of every record, aggregate and recipient and of the gate itself: by
        finding, the worst and most frequent first.</p>
    </div>
    <el-button :loading="loading" @click="again">Check again</el-button>
  </div>
  <div class="tools">
    <router-link v-for="s in ['', 'error', 'warning', 'note']" :key="s" class="filter"
        :class="{ here: s === severity }" :to="{ query: { ...route.query, code: undefined, severity: s || undefined } }">
          {{ { '': 'all', error: 'errors', warning: 'warnings', note: 'notes' }[s] }}
            {{ severity && s !== severity ? '' : number(s) }}</router-link>
    <span class="quiet">to be done at the</span>
    <router-link v-for="s in ['', 'gate', 'provider', 'application']" :key="s" class="filter"
        :class="{ here: s === side }" :to="{ query: { ...route.query, code: undefined, side: s || undefined } }">{{ s ||
          'any side' }}</router-link>
    <span v-if="data?.acknowledged" class="quiet">{{ data.acknowledged }} acknowledged</span>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <p v-if="data && !number('')" class="sheet empty"><span class="passed">● Nothing found.</span> Everything is in order
    as far as can be known without a sign-in.</p>
  <section v-for="c in data?.codes ?? []" :key="c.code" class="sheet code">
    <router-link class="line" :to="{ query: { ...route.query, code: code === c.code ? undefined : c.code } }"
        :aria-expanded="code === c.code">
      <span :class="signs[c.severity]![0]">{{ signs[c.severity]![1] }} {{ c.severity }}</span>
      <span><strong>{{ c.title }}</strong> <code class="quiet">{{ c.code }}</code></span>
      <span>{{ c.records }} {{ c.records === 1 ? 'record' : 'records' }}</span></router-link>
    <div v-if="code === c.code && records" class="inside">
      <div v-if="(records.items?.length ?? 0) > size" class="tools"><el-input v-model="search" clearable
          placeholder="Name or title" aria-label="Search records" style="width: 280px" /></div>
      <section v-for="r in matching.slice(0, shown)" :key="r.kind + r.name">
        <h2><router-link :to="path(r)">{{ r.title || r.name }}</router-link> <span class="quiet">{{ r.kind }}</span></h2>
        <FindingBox v-for="f in r.findings ?? []" :key="f.mark" :finding="f" checked bare>
          <AcknowledgeForm :kind="r.kind" :name="r.name" :finding="f" @done="again" /></FindingBox>
        <KnownFindings :kind="r.kind" :name="r.name" :known="r.acknowledged ?? []" @done="again" />
      </section>
      <p v-if="matching.length > shown" class="tools"><el-button @click="shown += 100">Show more of
        {{ matching.length }}</el-button></p>
    </div>
  </section>
</template>

<style scoped>
.code { margin-bottom: 8px }
.line { display: grid; grid-template-columns: 100px 1fr auto; gap: 16px; padding: 10px 16px; color: var(--ink); text-decoration: none }
.inside { padding: 0 16px 16px; border-top: 1px solid var(--line) }
.inside h2 { margin: 16px 0 0 }
.empty { padding: 16px 24px }
@media (max-width: 900px) { .line { grid-template-columns: 1fr } }
</style>
