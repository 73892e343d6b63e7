<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take, type Run } from '../api/client'
import CopyValue from './CopyValue.vue'
import FindingBox from './FindingBox.vue'
import ProblemBox from './ProblemBox.vue'
import StepsShown from './StepsShown.vue'
import { useAct } from '../composables/act'
import { useStream } from '../composables/stream'
import { parts } from '../composables/differ'
import { local } from '../composables/words'

/** One run of a rehearsal: its link, its lanes as they grow, and its verdict. */
const props = defineProps<{ id: number; link?: string }>()
const emit = defineEmits<{ changed: [] }>()
const last = ref('')
const { data: run, state, close } = useStream<Run>(() => `/api/v1/runs/${props.id}/watch`, (r) => {
  if (last.value && last.value !== r.verdict.state) emit('changed')
  last.value = r.verdict.state
  if (r.ended && !r.ended.startsWith('0001')) close()
})
const over = computed(() => !!run.value?.ended && !run.value.ended.startsWith('0001'))
const stages: Record<string, string> = { linked: 'The link waits to be opened.', pressed: 'Opened: the sign-in has not come here yet.',
  'at-provider': 'At the provider: the person signs in there.', 'at-person': 'A page of the gate waits for the person.',
  done: 'The sign-in has come to an end.' }
const states: Record<string, [string, string, string]> = { waiting: ['◐', 'waiting', 'Under way'], passed: ['●', 'passed', 'Passed'],
  failed: ['✕', 'refused', 'Failed'], stopped: ['◌', 'waiting', 'Stopped'] }
const symptoms = [['let-in', 'Let in as the right person'], ['error', 'Showed an error'], ['empty-page', 'Showed nothing, or its sign-in again'],
  ['wrong-person', 'Let in somebody else'], ['empty-account', 'Let in, with an empty account']] as const
type Symptom = (typeof symptoms)[number][0]
const symptom = ref<Symptom>('let-in')
const text = ref('')
const delivered = computed(() => run.value?.stage === 'done' && run.value.name !== undefined)
const { failed, act } = useAct({ done: async () => emit('changed') })
/** What was expected and what came, letter by letter. */
const apart = (l: { value?: string; came: string }) => parts(l.value ?? '', l.came)
const told = ref<Run>()
const say = () => act(async () => {
  told.value = await take(api.POST('/api/v1/runs/{id}/said', { params: { path: { id: props.id } }, body: { symptom: symptom.value, text: text.value || undefined } }))
})
const end = () => act(async () => { told.value = await take(api.POST('/api/v1/runs/{id}/end', { params: { path: { id: props.id } } })) })
/** The verdict: what was answered last, unless the stream knows more. */
const shown = computed(() => (told.value && (over.value || told.value.said) ? told.value : run.value))
const verdict = computed(() => shown.value?.verdict)
</script>

<template>
  <ProblemBox :problem="failed" />
  <section v-if="run && verdict" class="sheet run" aria-live="polite">
    <div class="headline">
      <h2><span :class="states[verdict.state]?.[1]">{{ states[verdict.state]?.[0] }} {{ states[verdict.state]?.[2] }}</span>
        <span class="quiet"> run {{ run.id }}, by {{ run.by }}, began <time :title="local(run.began)">{{ local(run.began) }}</time></span></h2>
      <span class="tools"><span v-if="!over" :class="state === 'live' ? 'passed' : 'waiting'">{{ state === 'live' ? '● live' : '◐ connecting again' }}</span>
        <el-button v-if="!over" size="small" @click="end">End the run</el-button></span>
    </div>
    <p v-if="link && run.stage === 'linked'" class="link">Open this in a private window, or send it to whoever rehearses. It works once, until
      <time :title="run.ends">{{ local(run.ends) }}</time>: <CopyValue :value="link" name="link" /></p>
    <p v-if="!over && verdict.state === 'waiting'" class="quiet">{{ stages[run.stage] }}</p>
    <p v-if="run.halted"><strong>It stopped half-way.</strong> {{ run.halted }}</p>
    <table v-if="verdict.lines?.length" class="held">
      <thead><tr><td></td><th scope="col">Expected</th><th scope="col">Came</th></tr></thead>
      <tbody><tr v-for="l in verdict.lines" :key="l.expected"><td :class="l.holds ? 'passed' : 'refused'">{{ l.holds ? '✓ so' : '✕ not so' }}</td>
        <th scope="row">{{ l.expected }}</th><td><code v-if="l.holds || !l.value">{{ l.came }}</code><template v-else>
          <code>{{ apart(l)[1][0] }}<mark>{{ apart(l)[1][1] }}</mark>{{ apart(l)[1][2] }}</code>
          <span class="quiet"> instead of </span><code>{{ apart(l)[0][0] }}<mark>{{ apart(l)[0][1] }}</mark>{{ apart(l)[0][2] }}</code></template></td></tr></tbody>
    </table>
    <FindingBox v-for="f in verdict.findings ?? []" :key="f.code" :finding="f" />
    <p v-for="n in verdict.notes ?? []" :key="n" class="note">{{ n }}</p>
    <form v-if="delivered" class="said" @submit.prevent="say">
      <fieldset><legend>What did the application do?</legend>
        <el-radio-group v-model="symptom" aria-label="What the application did"><el-radio v-for="[value, words] in symptoms" :key="value" :value="value">{{ words }}</el-radio></el-radio-group>
        <el-input v-if="symptom === 'error'" v-model="text" type="textarea" :rows="2" maxlength="4000" aria-label="The error as it was shown" placeholder="Paste the error as it was shown" />
        <el-button native-type="submit">Say so</el-button>
        <span v-if="shown?.said" class="quiet">Said: {{ symptoms.find(([v]) => v === shown?.said?.symptom)?.[1] }}, by {{ shown.said.by }}</span></fieldset>
    </form>
    <template v-if="verdict.causes?.length">
      <h3>What may lie behind it</h3>
      <ul class="causes"><li v-for="c in verdict.causes" :key="c.text"><strong v-if="c.likely">Likely: </strong>{{ c.text }} <span class="quiet">{{ c.remedy }}</span></li></ul>
    </template>
    <p v-if="run.traces?.length" class="quiet">Recorded as <template v-for="(t, i) in run.traces" :key="t"><template v-if="i">, </template><router-link :to="`/watch/traces/${t}`"><code>{{ t }}</code></router-link></template></p>
  </section>
  <StepsShown v-if="run?.steps?.length" :steps="run.steps" :started="run.steps[0]!.at" />
</template>

<style scoped>
.run { padding: 12px 16px; margin: 12px 0 }
.headline { display: flex; justify-content: space-between; gap: 16px; align-items: baseline; flex-wrap: wrap }
.headline h2 { margin: 0 }
.headline h2 .quiet { font-weight: 400; font-size: 13px }
.link { padding: 8px 12px; border: 2px dashed var(--gate); border-radius: 4px }
.held { border-collapse: collapse; margin: 8px 0 12px }
.held thead th { color: var(--quiet); font-size: 13px }
mark { background: color-mix(in srgb, var(--refused) 20%, transparent); color: inherit; font-weight: 700 }
.said { margin-bottom: 12px }
.held th { text-align: left; font-weight: 400; padding: 2px 16px 2px 0; overflow-wrap: anywhere }
.held td { padding: 2px 16px 2px 0; vertical-align: top; overflow-wrap: anywhere }
.held td:first-child { white-space: nowrap }
.said fieldset { border: 1px solid var(--line); border-radius: 4px; padding: 8px 12px; display: flex; gap: 8px 16px; flex-wrap: wrap; align-items: center }
.causes { margin: 4px 0 12px; padding-left: 18px }
h3 { margin: 12px 0 4px; font-size: 14px }
</style>
