<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type StepPair, type TraceHead } from '../api/client'
import DifferenceTable from '../components/DifferenceTable.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { local } from '../composables/words'

/** Two recorded sign-ins step by step: what differs, and, greyed, what is bound to. */
const props = defineProps<{ id: string }>()
const route = useRoute()
const router = useRouter()
const other = computed(() => (typeof route.query.with === 'string' ? route.query.with : ''))
const { data, problem } = useLoad(() => take(api.GET('/api/v1/traces/{name}/compared', {
  params: { path: { name: props.id }, query: { with: other.value || undefined } } })), () => [props.id, other.value])
const typed = ref('')
watch(data, (d) => { typed.value = d?.first.id ?? '' })
const all = ref(false)
const tone: Record<string, string> = { entered: 'passed', refused: 'refused', waiting: 'waiting', left: 'quiet' }
const sides = computed(() => (data.value ? [['First', data.value.first], ['Second', data.value.second]] as [string, TraceHead][] : []))
const bound = computed(() => (data.value?.steps ?? []).flatMap((s) => s.lines ?? []).filter((l) => l.bound).length)
/** How a pair of steps stands. */
function sign(p: StepPair, i: number): [string, string] {
  if (i === 0) return ['', '']
  if (!p.second) return ['◂ only the first', 'waiting']
  if (!p.first) return ['▸ only the second', 'waiting']
  return p.lines?.some((l) => !l.bound) ? ['≠ differs', 'refused'] : ['= alike', 'quiet']
}
const shown = (p: StepPair) => (p.lines ?? []).filter((l) => all.value || !l.bound)
const where = (p: StepPair, i: number) => (i === 0 ? 'As a whole' : p.from === p.to ? 'at the gate' : `${p.from} → ${p.to}`)
</script>

<template>
  <div class="head"><div><h1>Two sign-ins compared</h1>
    <p>Step by step: what differs, letter by letter. Identifiers, signatures and times that are as far from their step in both are bound to differ.</p></div></div>
  <ProblemBox :problem="problem" />
  <form class="tools" @submit.prevent="router.push({ query: { with: typed } })">
    <label for="other">Hold <code>{{ id }}</code> against</label>
    <el-input id="other" v-model="typed" class="mono" placeholder="Reference" style="width: 170px" />
    <el-button native-type="submit">Compare</el-button>
    <el-checkbox v-model="all">Show what is bound to differ ({{ bound }})</el-checkbox></form>
  <template v-if="data">
    <dl class="sheet sides"><div v-for="[word, t] in sides" :key="word"><dt>{{ word }}</dt>
      <dd><router-link :to="`/watch/traces/${t.id}`"><code>{{ t.id }}</code></router-link> <strong :class="tone[t.result]">{{ t.result }}</strong>
        {{ t.application || 'unknown application' }} by {{ t.provider || 'no provider yet' }}, <time :title="t.started">{{ local(t.started) }}</time>
        <span v-if="t.run" class="waiting"> run {{ t.run }} of a rehearsal</span></dd></div></dl>
    <ol class="pairs">
      <template v-for="(p, i) in data.steps ?? []" :key="i">
        <li v-if="data.parts && i === data.parts" class="part">From here on they part</li>
        <li :class="['sheet', { one: p.first === undefined || p.second === undefined }]">
          <p class="step"><span class="where">{{ where(p, i) }}</span> <strong v-if="i">{{ p.name }}</strong>
            <span :class="['sign', sign(p, i)[1]]">{{ sign(p, i)[0] }}</span></p>
          <DifferenceTable v-if="shown(p).length" :differences="shown(p)" :heads="['First', 'Second']" />
          <p v-else-if="i === 0" class="quiet nothing">Nothing differs.</p>
        </li>
      </template>
    </ol>
    <p v-if="!data.parts" class="passed">Their steps are alike.</p>
  </template>
</template>

<style scoped>
.tools { display: flex; gap: 12px; align-items: center; flex-wrap: wrap }
.sides { margin: 12px 0; padding: 8px 16px }
.sides div { display: flex; gap: 12px; padding: 3px 0 }
.sides dt { width: 64px; flex: none; color: var(--quiet) }
.sides dd { margin: 0 }
.pairs { list-style: none; padding: 0; margin: 0 }
.pairs > li { margin-bottom: 8px }
.pairs :deep(table.sheet) { border: 0; border-top: 1px solid var(--line); border-radius: 0 }
.step { display: flex; gap: 12px; margin: 0; padding: 8px 16px; align-items: baseline }
.where { width: 224px; color: var(--quiet); flex: none }
.sign { margin-left: auto; white-space: nowrap }
.nothing { margin: 0; padding: 0 16px 8px }
.part { color: var(--refused); font-weight: 600; border-top: 2px solid var(--refused); padding-top: 6px; margin-top: 14px }
@media (max-width: 700px) { .where { width: auto } }
</style>
