<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take, type Job, type Schemas } from '../api/client'
import { useAct } from '../composables/act'
import { people, signIns } from '../composables/words'
import JobProgress from './JobProgress.vue'
import ProblemBox from './ProblemBox.vue'

/** Who of the people seen lately is affected by a change that is not saved yet. */
const props = defineProps<{ change: () => Schemas['Reevaluation'] }>()
const job = ref<Job>()
const result = computed(() => job.value?.reevaluated)
const { busy, failed, act } = useAct()
const run = () => act(async () => { job.value = await take(api.POST('/api/v1/reevaluations', { body: props.change() })) })

type Crossing = Schemas['ReevaluatedCrossing']
/** Sign-ins that would differ in the same way stand together. */
const groups = computed(() => {
  const all = new Map<string, { first: Crossing; times: number }>()
  for (const x of result.value?.listed ?? []) {
    const key = JSON.stringify([x.person, x.application, x.provider, x.differences, x.cause])
    const g = all.get(key)
    if (g) g.times++
    else all.set(key, { first: x, times: 1 })
  }
  return [...all.values()]
})
const mark = (x: Crossing) => (x.shut ? { word: '✕ refused', tone: 'refused' } : x.renamed ? { word: '▲ other name', tone: 'waiting' }
  : x.held ? { word: '▲ asked first', tone: 'waiting' }
  : x.verdict === 'differs' ? { word: '● differs', tone: 'note' } : { word: '○ cannot tell', tone: 'quiet' })
</script>

<template>
  <section class="sheet panel" aria-label="Who is affected">
    <div class="tools">
      <strong>Who is affected?</strong>
      <el-button size="small" :loading="busy || job?.state === 'running'" @click="run">Run all recorded sign-ins through the change</el-button>
    </div>
    <ProblemBox :problem="failed" />
    <JobProgress v-if="job && !result" :key="job.id" :job="job" @ended="(j) => (job = j)" />
    <div v-if="result" aria-live="polite">
      <p><span :class="result.people ? 'waiting' : 'passed'">{{ result.people ? '▲' : '●' }} {{ result.people }} of
        {{ people(result.seen) }}</span> affected<template v-if="result.shut">,
        <span class="refused">{{ result.shut }} refused</span></template><template v-if="result.renamed">,
        <span class="waiting">{{ result.renamed }} under another name</span></template><template v-if="result.held">,
        <span class="waiting">{{ result.held }} asked something first</span></template>.
        <span class="quiet">{{ signIns(result.looked) }} looked at: {{ result.alike }} with the same result, {{ result.differs }} with another,
        {{ result.cannotTell }} cannot be told, {{ result.apart }} not affected.</span></p>
      <p v-if="result.stopped" class="waiting">It took too long: older sign-ins were not looked at.</p>
      <div v-for="(g, i) in groups.slice(0, 50)" :key="i" class="one">
        <p><span :class="mark(g.first).tone">{{ mark(g.first).word }}</span> {{ g.first.person || 'nobody' }} at
          {{ g.first.application }} <router-link :to="`/watch/traces/${g.first.trace}`">{{ g.first.trace }}</router-link><span
            v-if="g.times > 1" class="quiet">, and {{ g.times - 1 }} before it</span></p>
        <p v-if="g.first.cause" class="quiet">{{ g.first.cause }}</p>
        <table v-if="g.first.differences?.length"><tbody><tr v-for="d in g.first.differences" :key="d.label"><th scope="row">{{ d.label }}</th>
          <td><del v-if="d.before">{{ d.before }}</del></td><td><ins v-if="d.after">{{ d.after }}</ins><span v-else class="quiet">none</span></td>
        </tr></tbody></table>
      </div>
      <p v-if="groups.length > 50" class="quiet">and {{ groups.length - 50 }} more; all by <code>innergate reevaluate</code></p>
    </div>
  </section>
</template>

<style scoped>
.panel { padding: 12px 16px; margin-top: 16px }
.tools { margin-bottom: 8px }
p { margin: 0 0 6px }
.one { border-top: 1px solid var(--line); padding: 6px 0 }
table { border-collapse: collapse; width: 100%; table-layout: fixed }
th, td { text-align: left; font-weight: 400; padding: 1px 12px 1px 0; vertical-align: top; overflow-wrap: anywhere; font-size: 13px }
th { color: var(--quiet); width: 30% }
del { color: var(--quiet) }
ins { text-decoration: none; font-weight: 600 }
</style>
