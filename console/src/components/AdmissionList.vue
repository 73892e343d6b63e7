<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { api, take, type Job } from '../api/client'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { uploadForm } from '../composables/upload'
import { ends, known, times } from '../composables/words'
import JobProgress from './JobProgress.vue'
import ProblemBox from './ProblemBox.vue'

/** Who enters an application by name: everyone, groups, people, and a list of them. */
const props = defineProps<{ application: string }>()
const emit = defineEmits<{ changed: [] }>()
const path = computed(() => ({ path: { name: props.application } }))
const { data, problem, load } = useLoad(async () => take(api.GET('/api/v1/applications/{name}/admissions', { params: path.value })), () => props.application)
const { data: groups } = useLoad(async () => (await take(api.GET('/api/v1/groups'))).items ?? [])
const { busy, failed, act } = useAct({ done: async () => { await load(); emit('changed') } })
type Change = { everyone?: boolean; groups?: string[]; people?: number[]; until?: string; out?: boolean }
const admit = (body: Change) => act(async () => { request.value = (await take(api.POST('/api/v1/applications/{name}/admissions', { params: path.value, body }))).request })
const withdraw = (body: Change) => act(() => take(api.POST('/api/v1/applications/{name}/admissions/withdraw', { params: path.value, body })))

const request = ref<number>()
const form = reactive({ group: '', person: '', until: '', out: false })
const give = () => act(async () => {
  const got = await take(api.POST('/api/v1/applications/{name}/admissions', { params: path.value,
    body: { groups: form.group ? [form.group] : [], people: form.person ? [Number(form.person)] : [], until: form.until || undefined, out: form.out || undefined } }))
  request.value = got.request
  Object.assign(form, { group: '', person: '', until: '', out: false })
})
const rows = computed(() => [...(data.value?.groups ?? []).map((g) => ({ key: `g${g.group}`, what: g.out ? 'group, kept out' : 'group', name: g.title || g.group, to: '/admit/groups',
  until: g.until, ended: g.ended, by: '', remove: { groups: [g.group] } as Change })),
...(data.value?.people ?? []).map((p) => ({ key: `p${p.person}`, what: 'person', name: p.name || String(p.person), to: `/admit/people/${p.person}`, until: p.until, ended: p.ended,
  by: `${p.author}, ${known(p.source)}`, remove: { people: [p.person] } as Change }))])

const file = ref<File>()
const skipBad = ref(false)
const job = ref<Job>()
const ended = ref<Job>()
watch([file, skipBad], () => { job.value = ended.value = undefined })
const seen = computed(() => ended.value?.imported)
const ready = computed(() => seen.value && !seen.value.stored && seen.value.new + seen.value.changed > 0 && (!seen.value.badRows || skipBad.value))
const { failed: refused, act: sendAct } = useAct({})
const send = (digest: string) => sendAct(async () => {
  ended.value = undefined
  job.value = await uploadForm(`/api/v1/applications/${props.application}/admissions/list`, { skipBad: skipBad.value, digest }, file.value!, () => {})
})
async function done(j: Job) {
  ended.value = j
  if (j.imported?.stored) { await load(); emit('changed') }
}
</script>

<template>
  <section aria-label="Admitted by name"><h2>Admitted by name</h2>
    <ProblemBox :problem="problem ?? failed" />
    <template v-if="data">
      <p>Whoever nothing else is about <strong :class="data.everyone === 'no' ? 'refused' : 'passed'">{{ data.everyone === 'no' ? 'does not enter' : 'enters' }}</strong><template
          v-if="!data.everyone"><span class="waiting"> – nobody has decided on it</span></template>.
        <el-button v-if="data.everyone !== 'yes'" size="small" :loading="busy" @click="admit({ everyone: true })">Let everyone in</el-button>
        <el-button v-if="data.everyone !== 'no'" size="small" :loading="busy" @click="withdraw({ everyone: true })">Only who is admitted</el-button></p>
      <p class="quiet">At the sign-ins of the last 30 days an admission decided {{ times(data.decided) }}, this setting {{ times(data.default) }}.</p>
      <el-table :data="rows">
        <el-table-column label="" width="150" prop="what" />
        <el-table-column label="Who" min-width="220"><template #default="{ row }"><router-link :to="row.to">{{ row.name }}</router-link></template></el-table-column>
        <el-table-column label="Until" min-width="180"><template #default="{ row }"><span v-if="row.until" :class="{ refused: row.ended }">{{ ends(row.until) }}{{ row.ended ? ', which has passed' : '' }}</span><span
            v-else>for good</span></template></el-table-column>
        <el-table-column label="By" min-width="160" prop="by" />
        <el-table-column label="" width="130"><template #default="{ row }"><el-button link type="danger" :aria-label="`Take entry away from ${row.name}`" @click="withdraw(row.remove)">Take away</el-button></template></el-table-column>
        <template #empty>Nobody is admitted by name.</template>
      </el-table>
      <p v-if="data.total > (data.people?.length ?? 0)" class="quiet">and {{ data.total - (data.people?.length ?? 0) }} more people; the list of everyone shows them</p>
    </template>
    <p v-if="request" class="waiting" role="status">○ It waits for the approval of another owner, as <router-link :to="{ path: '/admit/requests', query: { application } }">request {{ request }}</router-link>.</p>
    <p v-else-if="data?.approval" class="quiet">Admissions to this application wait for the approval of another owner.</p>
    <form class="tools line" @submit.prevent="give"><el-select v-model="form.group" clearable filterable placeholder="Group" aria-label="Group to admit" style="width: 220px">
        <el-option v-for="g in groups ?? []" :key="g.name" :value="g.name" :label="g.title" /></el-select>
      <el-input v-model="form.person" name="admitPerson" placeholder="or number of a person" aria-label="Number of the person to admit" style="width: 190px" />
      <el-input v-model="form.until" name="until" placeholder="until, like 2027-01-31" aria-label="Until" style="width: 190px" />
      <el-checkbox v-model="form.out" :disabled="!form.group || !!form.person">Keep the group out</el-checkbox>
      <el-button native-type="submit" type="primary" :loading="busy" :disabled="!form.group && !form.person">{{ form.out ? 'Keep out' : 'Give entry' }}</el-button></form>
    <form class="tools line" @submit.prevent="send('')"><label class="file">A list, CSV with a heading like number or userName, and until
        <input type="file" name="admissions" accept=".csv,.json,.txt,text/csv,application/json" @change="(e) => (file = (e.target as HTMLInputElement).files?.[0])" /></label>
      <el-checkbox v-model="skipBad">Leave rows out that cannot be used</el-checkbox>
      <el-button native-type="submit" :disabled="!file">See whom it admits</el-button>
      <el-button v-if="ready" type="primary" @click="send(seen!.digest)">Admit {{ seen!.new + seen!.changed }}</el-button></form>
    <ProblemBox :problem="refused" />
    <JobProgress v-if="job" :key="job.id" :job="job" @ended="done" />
    <template v-if="seen"><p><strong :class="seen.stored ? 'passed' : 'note'">{{ seen.stored ? '● admitted' : '○ nothing is stored yet' }}</strong> · {{ seen.rows }} rows, people found by
        <code>{{ seen.by }}</code> · {{ seen.new }} new, {{ seen.changed }} with another end, {{ seen.same }} admitted already, {{ seen.badRows }} that cannot be used</p>
      <ul><li v-for="b in (seen.bad ?? []).slice(0, 20)" :key="b.line" class="refused">Line {{ b.line }}, {{ b.column || 'the row' }}: {{ b.cause }}</li></ul></template>
  </section>
</template>

<style scoped>
.line { margin: 12px 0; flex-wrap: wrap }
.file { display: grid; gap: 4px }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
.note { color: var(--note) }
</style>
