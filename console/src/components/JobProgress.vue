<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'
import { api, take, type Job, type Problem } from '../api/client'
import DifferenceTable from './DifferenceTable.vue'
import FindingBox from './FindingBox.vue'
import ProblemBox from './ProblemBox.vue'

/** Follows a job to its end and shows what came of it. */
const props = defineProps<{ job: Job }>()
const emit = defineEmits<{ ended: [job: Job] }>()
const job = ref<Job>(props.job)
const problem = ref<Problem>()
const began = Date.now()
let timer = 0
async function poll() {
  try {
    job.value = await take(api.GET('/api/v1/jobs/{name}', { params: { path: { name: props.job.id } } }))
  } catch (e) {
    problem.value = e as Problem
    return
  }
  if (job.value.state === 'running') timer = window.setTimeout(poll, 250)
  else emit('ended', job.value)
}
watch(() => props.job.id, () => { job.value = props.job; void poll() }, { immediate: true })
onUnmounted(() => clearTimeout(timer))

const percent = computed(() => (job.value.total ? Math.min(100, Math.round((job.value.done / job.value.total) * 100))
  : 0))
const amount = (n: number) => (job.value.unit === 'octets' ? `${(n / 1e6).toFixed(1)} MB` : String(n))
const left = computed(() => {
  const { done, total } = job.value
  const spent = (Date.now() - began) / 1000
  return done && total ? `${amount(done)} of ${amount(total)}, ${Math.max(0, Math.round(((total - done) / done) * spent))} s left` : ''
})
const report = computed(() => job.value.report)
const path = (kind: string, name: string) => `/connect/${kind}s/${name}`
</script>

<template>
  <section class="sheet job" aria-live="polite">
    <p><strong>{{ job.what }}</strong> · <span
        :class="{ running: 'waiting', done: 'passed', failed: 'refused' }[job.state]">{{ { running: '○ running', done: '● done', failed: '✕ failed' }[job.state] }}</span> <span v-if="job.state === 'running'" class="quiet">{{ left }}</span></p>
    <el-progress v-if="job.state === 'running'" :percentage="percent" :show-text="false" :indeterminate="!job.total" :aria-label="job.what" />
    <ProblemBox :problem="problem" />
    <FindingBox v-if="job.refused" :finding="job.refused" />
    <p v-else-if="job.state === 'failed'">{{ job.failure }}</p>
    <template v-if="report">
      <p v-if="report.entities">{{ report.entities }} entities, {{ report.broken ?? 0 }} of them cannot be used.</p>
      <template v-if="report.changes">
        <p>Since the edition before: {{ report.changes.added }} came, {{ report.changes.removed }} went,
          {{ report.changes.changed }} changed.</p>
        <ul>
          <li v-for="id in (report.changes.addedIds ?? []).slice(0, 20)" :key="'a' + id">
            <span class="passed">came</span> <code>{{ id }}</code></li>
          <li v-for="id in (report.changes.removedIds ?? []).slice(0, 20)" :key="'r' + id">
            <span class="refused">went</span> <code>{{ id }}</code></li>
          <li v-for="id in (report.changes.changedIds ?? []).slice(0, 20)" :key="'c' + id">
            <span class="waiting">changed</span> <code>{{ id }}</code></li>
        </ul>
      </template>
      <template v-for="r in report.records ?? []" :key="r.kind + r.name">
        <p><router-link :to="path(r.kind, r.name)">{{ r.name }}</router-link>: {{ r.outcome }}</p>
        <DifferenceTable v-if="r.differences?.length" :differences="r.differences" />
      </template>
      <template v-if="report.taken?.length">
        <p class="passed">{{ report.taken.length }} taken over</p>
        <ul><li v-for="t in report.taken.slice(0, 50)" :key="t.entityId">
          <router-link :to="path(t.kind, t.name)">{{ t.name }}</router-link> <code class="quiet">{{ t.entityId }}</code>
          </li></ul>
        <p v-if="report.taken.length > 50" class="quiet">and {{ report.taken.length - 50 }} more</p>
      </template>
      <template v-if="report.refusedCount">
        <p class="refused">{{ report.refusedCount }} refused</p>
        <details v-for="(r, i) in (report.refused ?? []).slice(0, 50)" :key="i">
          <summary><code>{{ r.entityId || 'no entity ID' }}</code> {{ r.finding.title }}</summary>
            <FindingBox :finding="r.finding" /></details>
      </template>
    </template>
  </section>
</template>

<style scoped>
.job { padding: 12px 16px; margin: 12px 0 }
p { margin: 0 0 8px }
ul { margin: 0 0 8px; padding-left: 18px }
</style>
