<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type TraceHead, type TraceNews } from '../api/client'
import StepsShown from '../components/StepsShown.vue'
import { useStream } from '../composables/stream'
import { local } from '../composables/words'
import { useRouter } from 'vue-router'

/** Sign-ins while they happen. One that is looked at grows as its messages pass. */
const heads = ref<TraceHead[]>([])
const steps = ref<Record<string, TraceNews['steps']>>({})
const missed = ref(0)
const paused = ref(false)
const chosen = ref('')
const router = useRouter()
const most = 200
/** What is under way, and what passed while the connection was away. */
async function catchUp() {
  const [waiting, newest] = await Promise.all([take(api.GET('/api/v1/traces', { params: { query: { result: 'waiting', limit: 50 } } })),
    heads.value.length ? take(api.GET('/api/v1/traces', { params: { query: { limit: 50, since: heads.value[0]!.started } } })) : undefined])
  const all = [...(newest?.items ?? []), ...(waiting.items ?? [])].filter((h, i, a) => a.findIndex((o) => o.id === h.id) === i)
  heads.value = [...all, ...heads.value.filter((h) => !all.some((o) => o.id === h.id))]
    .sort((a, b) => Date.parse(b.started) - Date.parse(a.started)).slice(0, most)
  for (const h of all) steps.value = { ...steps.value, [h.id]: undefined }
}
const { state } = useStream<TraceNews>(() => (paused.value ? undefined : '/api/v1/traces/watch'), (n) => {
  missed.value += n.missed ?? 0
  if (n.head ? !heads.value.some((h) => h.id === n.trace) || steps.value[n.trace] : steps.value[n.trace])
    steps.value = { ...steps.value, [n.trace]: [...(steps.value[n.trace] ?? []), ...(n.steps ?? [])] }
  if (n.head) heads.value = [n.head, ...heads.value.filter((h) => h.id !== n.head!.id)].slice(0, most)
  const kept = new Set(heads.value.map((h) => h.id))
  steps.value = Object.fromEntries(Object.entries(steps.value).filter(([id]) => kept.has(id)))
}, () => void catchUp())
watch(() => [chosen.value, steps.value[chosen.value]], async () => {
  const id = chosen.value
  if (!id || steps.value[id]) return
  const trace = await take(api.GET('/api/v1/traces/{name}', { params: { path: { name: id } } }))
  steps.value = { ...steps.value, [id]: trace.steps ?? [] }
})
const shown = computed(() => steps.value[chosen.value] ?? [])
const signs: Record<string, string> = { entered: '●', refused: '✕', waiting: '○', 'signed out': '◁' }
const tone: Record<string, string> = { entered: 'passed', refused: 'refused', waiting: 'waiting', 'signed out': 'quiet' }
</script>

<template>
  <div class="head"><div><h1>Live</h1><p>Sign-ins that are under way, and those that come, the newest first. Choose one to see its lanes grow.</p></div>
    <div class="tools"><span :class="state === 'live' ? 'passed' : 'waiting'">{{ paused ? '◌ paused' : state === 'live' ? '● live' : '◐ connecting' }}</span>
      <el-button @click="paused = !paused">{{ paused ? 'Go on' : 'Pause' }}</el-button></div></div>
  <p v-if="missed" class="waiting">{{ missed }} turns came faster than they could be shown; they stand in the traces.</p>
  <el-table :data="heads" row-key="id" highlight-current-row :max-height="320" @row-click="(row: TraceHead) => (chosen = row.id)">
    <el-table-column label="Result" width="130"><template #default="{ row }"><span :class="tone[row.result]">{{ signs[row.result] }} {{ row.result }}</span></template></el-table-column>
    <el-table-column label="Reference" width="150"><template #default="{ row }"><el-button link type="primary" :aria-label="`Look at ${row.id}`" @click.stop="chosen = row.id"><code>{{ row.id }}</code></el-button></template></el-table-column>
    <el-table-column label="Started" width="190"><template #default="{ row }"><time :title="row.started">{{ local(row.started) }}</time></template></el-table-column>
    <el-table-column label="Application" min-width="150"><template #default="{ row }">{{ row.application || '–' }}<span v-if="row.run" class="waiting"> ◐ rehearsal</span></template></el-table-column>
    <el-table-column label="Provider" min-width="140"><template #default="{ row }">{{ row.provider || '–' }}</template></el-table-column>
    <el-table-column label="Person" min-width="150"><template #default="{ row }">{{ row.person || '–' }}</template></el-table-column>
    <el-table-column label="Finding" min-width="170"><template #default="{ row }"><code v-if="row.finding">{{ row.finding }}</code><span v-else>–</span></template></el-table-column>
    <template #empty>Nothing yet. Whoever signs in now appears here.</template>
  </el-table>
  <template v-if="chosen && shown?.length">
    <h2>Sign-in <code>{{ chosen }}</code> <el-button link type="primary" @click="router.push(`/watch/traces/${chosen}`)">Open its trace</el-button></h2>
    <StepsShown :key="chosen" :steps="shown" :started="shown[0]!.at" />
  </template>
</template>
