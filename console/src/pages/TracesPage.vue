<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type TraceHead } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { local } from '../composables/words'

const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const search = ref(text(route.query.search))
const result = computed(() => text(route.query.result) as '' | 'entered' | 'refused' | 'waiting' | 'left' | 'signed out')
const application = computed(() => text(route.query.application))
const provider = computed(() => text(route.query.provider))
watch(search, (s) => router.replace({ query: { ...route.query, search: s || undefined } }))

const older = ref<TraceHead[]>([])
const ask = (before?: string) =>
  take(api.GET('/api/v1/traces', { params: { query: {
    search: search.value || undefined, result: result.value || undefined, application: application.value || undefined,
      provider: provider.value || undefined, limit: 100, before } } }))
const { data, problem, load } = useLoad(
  () => {
    older.value = []
    return ask()
  },
  () => [search.value, result.value, application.value, provider.value],
)
const rows = computed(() => [...(data.value?.items ?? []), ...older.value])
const all = computed(() => Object.values(data.value?.counts ?? {}).reduce((a, b) => a + b, 0))
const matching = computed(() => (result.value ? (data.value?.counts[result.value] ?? 0) : all.value))

async function more() {
  const next = await ask(rows.value.at(-1)?.started)
  older.value = [...older.value, ...(next.items ?? [])]
}
const signs: Record<string, string> = { entered: '●', refused: '✕', waiting: '○', left: '◌', 'signed out': '◁' }
const tone: Record<string, string> = { entered: 'passed', refused: 'refused', waiting: 'waiting', left: 'quiet', 'signed out': 'quiet' }
const open = (row: TraceHead) => router.push(`/watch/traces/${row.id}`)
</script>

<template>
  <div class="head">
    <div>
      <h1>Traces</h1>
      <p>Every sign-in that passed through the gate, or tried to, and every sign-out, step by step. The reference number is the one people
        see on their page.</p>
    </div>
    <el-button @click="load">Refresh</el-button>
  </div>
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Reference, person, application, provider, finding"
        aria-label="Search" style="width: 360px" />
    <router-link v-for="r in ['', 'entered', 'refused', 'waiting', 'left', 'signed out']" :key="r" class="filter"
        :class="{ here: r === result }" :to="{ query: { ...route.query, result: r || undefined } }">{{ r || 'all' }}
          {{ r ? (data?.counts[r] ?? 0) : all }}</router-link>
    <router-link v-if="application || provider" class="filter here"
        :to="{ query: { ...route.query, application: undefined, provider: undefined } }">{{ application || provider }}
          ✕</router-link>
  </div>
  <ProblemBox :problem="problem" />
  <el-table :data="rows" empty-text="No sign-in here yet. Open an application, or try one from its page."
      @row-click="open">
    <el-table-column label="Result" width="110"><template #default="{ row }">
      <span :class="tone[row.result]">{{ signs[row.result] }} {{ row.result }}</span></template></el-table-column>
    <el-table-column label="Reference" width="140"><template #default="{ row }">
      <router-link :to="`/watch/traces/${row.id}`" class="mono" @click.stop>{{ row.id }}</router-link></template>
      </el-table-column>
    <el-table-column prop="application" label="Application" min-width="130" />
    <el-table-column prop="provider" label="Provider" min-width="130" />
    <el-table-column label="Person" min-width="230"><template #default="{ row }"><span :title="row.person">{{ row.name || row.person }}</span></template></el-table-column>
    <el-table-column label="Finding" min-width="170"><template #default="{ row }"><code>{{ row.finding }}</code>
    </template></el-table-column>
    <el-table-column label="Started" width="200"><template #default="{ row }">
      <time :datetime="row.started" :title="row.started">{{ local(row.started) }}</time></template></el-table-column>
  </el-table>
  <p v-if="rows.length < matching" class="tools"><el-button @click="more">Show older ones</el-button></p>
</template>
