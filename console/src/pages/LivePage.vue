<script setup lang="ts">
import { computed, ref } from 'vue'
import type { TraceHead, TraceNews } from '../api/client'
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
const { state } = useStream<TraceNews>(() => (paused.value ? undefined : '/api/v1/traces/watch'), (n) => {
  missed.value += n.missed ?? 0
  steps.value = { ...steps.value, [n.trace]: [...(steps.value[n.trace] ?? []), ...(n.steps ?? [])] }
  if (n.head) heads.value = [n.head, ...heads.value.filter((h) => h.id !== n.head!.id)].slice(0, most)
  const kept = new Set(heads.value.map((h) => h.id))
  steps.value = Object.fromEntries(Object.entries(steps.value).filter(([id]) => kept.has(id)))
})
const shown = computed(() => steps.value[chosen.value] ?? [])
const signs: Record<string, string> = { entered: '●', refused: '✕', waiting: '○', 'signed out': '◁' }
const tone: Record<string, string> = { entered: 'passed', refused: 'refused', waiting: 'waiting', 'signed out': 'quiet' }
</script>

<template>
  <div class="head"><div><h1>Live</h1><p>Sign-ins while they happen, the newest first, from the moment this page was opened. Choose one to see its lanes grow.</p></div>
    <div class="tools"><span :class="state === 'live' ? 'passed' : 'waiting'">{{ paused ? '◌ paused' : state === 'live' ? '● live' : '◐ connecting' }}</span>
      <el-button @click="paused = !paused">{{ paused ? 'Go on' : 'Pause' }}</el-button></div></div>
  <p v-if="missed" class="waiting">{{ missed }} turns came faster than they could be shown; they stand in the traces.</p>
  <el-table :data="heads" row-key="id" highlight-current-row :max-height="320" @row-click="(row: TraceHead) => (chosen = row.id)">
    <el-table-column label="Result" width="130"><template #default="{ row }"><span :class="tone[row.result]">{{ signs[row.result] }} {{ row.result }}</span></template></el-table-column>
    <el-table-column label="Reference" width="150"><template #default="{ row }"><el-button link type="primary" :aria-label="`Look at ${row.id}`" @click.stop="chosen = row.id"><code>{{ row.id }}</code></el-button></template></el-table-column>
    <el-table-column label="Started" width="190"><template #default="{ row }"><time :title="row.started">{{ local(row.started) }}</time></template></el-table-column>
    <el-table-column label="Application" min-width="150"><template #default="{ row }">{{ row.application || '–' }}<span v-if="row.run" class="waiting"> (rehearsal)</span></template></el-table-column>
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
