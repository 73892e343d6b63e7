<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Job } from '../api/client'
import JobProgress from '../components/JobProgress.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds } from '../composables/objects'
import { mappingOf } from '../composables/rules'
import { uploadForm } from '../composables/upload'
import { ago, local, verdicts } from '../composables/words'

const props = defineProps<{ name: string }>()
const { data: list, problem, load } = useLoad(async () => (await take(api.GET('/api/v1/applications/{name}/comparisons',
  { params: { path: { name: props.name } } }))).items ?? [], () => props.name)
const { data: groups } = useLoad(async () => (await take(api.GET('/api/v1/groups'))).items ?? [])
const id = ref(0)
watch(list, (all) => { if (!all?.some((c) => c.id === id.value)) id.value = all?.[0]?.id ?? 0 })
const verdict = ref('')
const page = ref(1)
const size = 100
watch([id, verdict], () => { page.value = 1 })
const { data: seen, problem: unseen } = useLoad(async () => (id.value ? take(api.GET('/api/v1/applications/{name}/comparisons/{id}',
  { params: { path: { name: props.name, id: id.value }, query: { ...(verdict.value ? { verdict: verdict.value } : {}), offset: (page.value - 1) * size, limit: size } } }))
  : undefined), () => [id.value, verdict.value, page.value])
const counts = computed(() => Object.keys(verdicts).map((v) => ({ v, n: (seen.value?.counts as Record<string, number> | undefined)?.[v] ?? 0 })))
const share = (n: number) => `${(100 * n) / Math.max(1, counts.value.reduce((sum, c) => sum + c.n, 0))}%`
const exported = computed(() => `/api/v1/applications/${props.name}/comparisons/${id.value}/export${verdict.value ? `?verdict=${encodeURIComponent(verdict.value)}` : ''}`)

const file = ref<File>()
const column = ref('')
const identifier = ref('')
const group = ref('')
const job = ref<Job>()
const { busy, failed, act } = useAct()
const compare = () => act(async () => {
  if (!file.value) return load()
  job.value = await uploadForm(`/api/v1/applications/${props.name}/comparisons`, { column: column.value, identifier: identifier.value, group: group.value }, file.value!, () => {})
})
async function ended(j: Job) {
  if (j.state !== 'done') return
  job.value = undefined
  id.value = j.compared!.id
  verdict.value = ''
  await load()
}
function use(r: { column: string; identifier: string }) {
  column.value = r.column
  identifier.value = r.identifier
}
/** Adds the rule by which the application would be told what the accounts fit; without rules everything passes, and goes on to. */
const tell = () => act(async () => {
  const { it } = await kinds.application.show(props.name)
  const now = mappingOf(it.settings.releaseMapping)
  await kinds.application.save(it, { releaseMapping: { rules: [...now.rules, seen.value!.rule!], ...(now.rest || !now.rules.length ? { rest: true } : {}) } }, 'told what its accounts fit')
  await compare()
})
const remove = () => act(async () => {
  await take(api.DELETE('/api/v1/applications/{name}/comparisons/{id}', { params: { path: { name: props.name, id: id.value } } }))
  await load()
})
const pick = (e: Event) => { file.value = (e.target as HTMLInputElement).files?.[0] }
</script>

<template>
  <div class="head"><div><h1>Accounts of {{ name }}</h1>
    <p>The accounts that the application keeps itself, held against the people it would be told of, before anything is switched on.
      <router-link :to="`/connect/applications/${name}`">Back to the application</router-link></p></div></div>
  <ProblemBox :problem="problem ?? unseen ?? failed" />
  <form class="sheet form" @submit.prevent="compare">
    <label>Its list, CSV with any headings <input type="file" name="accounts" accept=".csv,.txt,text/csv" @change="pick" /></label>
    <label>Heading <el-input v-model="column" name="column" placeholder="the one that fits best" /></label>
    <label>Identifier <el-input v-model="identifier" name="identifier" placeholder="the one that fits best" /></label>
    <label>Only people in <el-select v-model="group" aria-label="Only people in" clearable filterable placeholder="all who may come">
      <el-option v-for="g in groups ?? []" :key="g.name" :value="g.name" :label="g.title" /></el-select></label>
    <el-button type="primary" native-type="submit" :loading="busy" :disabled="!file">Compare</el-button>
  </form>
  <JobProgress v-if="job" :key="job.id" :job="job" @ended="ended" />
  <template v-if="seen && id">
    <div class="tools top"><h2>{{ seen.counts?.exact ?? 0 }} of {{ seen.accounts }} accounts fit</h2>
      <span class="quiet">by <code>{{ seen.column }}</code> and <code>{{ seen.identifier }}</code>, against {{ seen.people }} people<template v-if="seen.group"> in {{ seen.group }}</template></span>
      <el-select v-model="id" aria-label="Comparison" style="width: 230px"><el-option v-for="c in list ?? []" :key="c.id" :value="c.id"
          :label="`${c.counts?.exact ?? 0} of ${c.accounts}, ${ago(c.at)}`" /></el-select>
      <el-button @click="remove">Remove this one</el-button></div>
    <p v-if="seen.notTold" class="sheet since untold"><strong class="waiting">○ Not told yet.</strong> {{ name }} is not told <code>{{ seen.identifier.replace('profile:', '') }}</code>,
      so it finds nobody by it. <el-button size="small" type="primary" :loading="busy" @click="tell">Add the rule for it</el-button></p>
    <div class="bar" role="img" :aria-label="counts.filter((c) => c.n).map((c) => `${c.v}: ${c.n}`).join(', ')">
      <span v-for="c in counts.filter((x) => x.n)" :key="c.v" :class="verdicts[c.v]!.tone" :style="{ width: share(c.n) }" :title="`${c.v}: ${c.n}`"></span></div>
    <div class="tools"><button type="button" class="filter" :class="{ here: !verdict }" :aria-pressed="!verdict" @click="verdict = ''">all</button>
      <button v-for="c in counts" :key="c.v" type="button" class="filter" :class="{ here: verdict === c.v }" :aria-pressed="verdict === c.v" :disabled="!c.n" :title="verdicts[c.v]!.means"
          @click="verdict = c.v"><span :class="verdicts[c.v]!.tone">{{ verdicts[c.v]!.sign }}</span> {{ c.v }} {{ c.n }}</button>
      <a :href="exported" download><el-button>Export {{ verdict || 'all' }}</el-button></a></div>
    <p v-if="verdict" class="quiet">{{ verdict === 'exact' && seen.notTold ? 'The application will find the person, once it is told.' : verdicts[verdict]!.means }}</p>
    <p v-if="seen.before" class="sheet since">Since {{ local(list?.find((c) => c.id === seen!.before!.id)?.at ?? seen.at) }}: <span class="passed">{{ seen.before.fitCount }} fit now</span>,
      <span :class="{ refused: seen.before.unfitCount }">{{ seen.before.unfitCount }} do not any more</span>; {{ seen.before.came }} accounts came, {{ seen.before.went }} went.</p>
    <div v-if="!verdict && seen.changes?.length" class="sheet since better"><strong>What would have more fit</strong>
      <ul><li v-for="c in seen.changes" :key="c.say"><span class="passed">+{{ c.gains }}</span> {{ c.say }}: <code>{{ JSON.stringify(c.steps) }}</code> in a rule of the
        <router-link :to="`/connect/applications/${name}/mapping`">release</router-link></li></ul></div>
    <el-table :data="seen.lines ?? []">
      <el-table-column label="Verdict" width="150"><template #default="{ row }"><span :class="verdicts[row.verdict]?.tone">{{ verdicts[row.verdict]?.sign }} {{ row.verdict }}</span></template></el-table-column>
      <el-table-column label="Account there" min-width="220"><template #default="{ row }"><code :title="row.account">{{ row.account || '–' }}</code></template></el-table-column>
      <el-table-column label="Value here" min-width="220"><template #default="{ row }"><code :title="row.value">{{ row.value || '–' }}</code></template></el-table-column>
      <el-table-column label="Person" min-width="180"><template #default="{ row }"><router-link v-if="row.person" :to="`/admit/people/${row.person}`">{{ row.name }}</router-link><template
          v-for="o in row.others ?? []" :key="o"><router-link class="other" :to="`/admit/people/${o}`">{{ o }}</router-link></template></template></el-table-column>
      <el-table-column label="Line" width="80"><template #default="{ row }">{{ row.line || '–' }}</template></el-table-column>
      <template #empty>No lines of this verdict.</template>
    </el-table>
    <el-pagination v-if="seen.total > size" v-model:current-page="page" :page-size="size" :total="seen.total" layout="prev, pager, next" />
    <h2>How well headings fit what identifies people</h2>
    <el-table :data="seen.rates ?? []">
      <el-table-column label="Heading" min-width="180"><template #default="{ row }"><code>{{ row.column }}</code></template></el-table-column>
      <el-table-column label="Identifier" min-width="220"><template #default="{ row }"><code>{{ row.identifier }}</code></template></el-table-column>
      <el-table-column label="Exact" width="140"><template #default="{ row }">{{ row.exact }} of {{ row.of }}</template></el-table-column>
      <el-table-column label="Nearly" width="100" prop="near" />
      <el-table-column label="" width="120"><template #default="{ row }"><el-button link type="primary" @click="use(row as { column: string; identifier: string })">Compare so</el-button></template></el-table-column>
      <template #empty>No heading fits anything that identifies people.</template>
    </el-table>
    <template v-if="seen.badRows"><h2>{{ seen.badRows }} rows of the list could not be read</h2>
      <ul><li v-for="b in seen.bad ?? []" :key="b.line">line {{ b.line }}: {{ b.cause }}</li></ul></template>
  </template>
  <p v-else-if="list" class="sheet since">Not compared yet. Have the application export its accounts, and give the list above.</p>
</template>

<style scoped>
.form { padding: 16px; display: grid; grid-template-columns: 1.4fr 1fr 1fr 1fr auto; gap: 8px 16px; align-items: end }
.form label { display: grid; gap: 6px; font-weight: 600 }
.top { margin-top: 20px }
.top h2 { margin: 0 }
.top .el-select { margin-left: auto }
.bar { display: flex; height: 14px; border: 1px solid var(--line); border-radius: 4px; overflow: hidden; margin-bottom: 12px; gap: 1px }
.bar span { background: currentColor; min-width: 3px }
button.filter { font: inherit; cursor: pointer }
button.filter:disabled { opacity: .5; cursor: default }
.since { padding: 10px 16px }
.better ul { margin: 4px 0 0; padding-left: 18px }
.other { margin-right: 8px }
@media (max-width: 1000px) { .form { grid-template-columns: 1fr } }
</style>
