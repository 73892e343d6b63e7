<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Job, type Schemas } from '../api/client'
import AdmissionList from '../components/AdmissionList.vue'
import EntrantTable from '../components/EntrantTable.vue'
import JobProgress from '../components/JobProgress.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { decisions, grounds, signs, tones } from '../composables/entry'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

/** Everyone who can enter an application, by what, and who is admitted by name. */
const props = defineProps<{ name: string }>()
const { data: app } = useLoad(async () => take(api.GET('/api/v1/applications/{name}', { params: { path: { name: props.name } } })), () => props.name)
const job = ref<Job>()
const looked = ref(0)
const { failed, act } = useAct({})
const look = () => act(async () => { job.value = await take(api.POST('/api/v1/applications/{name}/entrants', { params: { path: { name: props.name } } })) })
watch(() => props.name, look, { immediate: true })
function ended(j: Job) {
  if (j.state === 'done') { job.value = undefined; looked.value++ }
}
const search = ref('')
const chosen = ref<Schemas['EntrantCount']>()
const role = ref<string>()
const before = ref<number[]>([])
const query = computed(() => ({ search: search.value || undefined, decision: chosen.value?.decision ?? 'enters' as const,
  by: chosen.value ? chosen.value.ground?.by ?? 'none' as const : undefined, ground: chosen.value?.ground?.name || undefined,
  role: role.value === undefined ? undefined : role.value || 'none' }))
watch([search, chosen, role], () => { before.value = [] })
const after = computed(() => before.value.at(-1) ?? 0)
const { data, problem } = useLoad(async () => (looked.value ? take(api.GET('/api/v1/applications/{name}/entrants',
  { params: { path: { name: props.name }, query: { ...query.value, after: after.value || undefined, limit: 100 } } })) : undefined), () => [looked.value, query.value, after.value])
const last = computed(() => data.value?.items?.at(-1)?.person ?? 0)
const csv = computed(() => `/api/v1/applications/${props.name}/entrants/export?${new URLSearchParams(Object.entries(query.value).filter(([, v]) => v) as string[][])}`)
const same = (c: Schemas['EntrantCount']) => JSON.stringify(c) === JSON.stringify(chosen.value)
</script>

<template>
  <div class="head"><div><h1>Who enters {{ app?.title ?? name }}</h1>
    <p>Everybody who is known, as they would be decided on if they came now as they last did: by that provider, network and authentication context.
      An access token that an application verifies itself lasts until its end; all else follows a change at its next use.</p></div>
    <div class="tools"><router-link :to="{ path: '/admit/rules', query: { application: name } }"><el-button>Rules</el-button></router-link>
      <router-link :to="{ path: '/admit/roles', query: { application: name } }"><el-button>Roles</el-button></router-link>
      <router-link :to="`/connect/applications/${name}`"><el-button>The application</el-button></router-link></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <JobProgress v-if="job" :key="job.id" :job="job" @ended="ended" />
  <template v-if="data">
    <ul class="counts" aria-label="By what decides">
      <li v-for="c in data.counts ?? []" :key="JSON.stringify(c)"><button type="button" :aria-pressed="same(c)" @click="chosen = same(c) ? undefined : c"><strong>{{ c.count }}</strong>
        <span :class="tones[c.decision]">{{ signs[c.decision] }} {{ decisions[c.decision] }}</span> <span class="quiet">{{ grounds(c.ground, c.decision) }}</span></button></li></ul>
    <ul v-if="data.roles?.length" class="counts" aria-label="By role">
      <li v-for="r in data.roles" :key="r.role"><button type="button" :aria-pressed="role === r.role" @click="role = role === r.role ? undefined : r.role"><strong>{{ r.count }}</strong>
        {{ r.title || 'with no role' }} <code v-if="r.role" class="quiet">{{ r.role }}</code></button></li></ul>
    <div class="tools"><el-input v-model="search" clearable placeholder="Name or number" aria-label="Search people" name="search" style="width: 280px" />
      <span class="quiet">{{ data.total }} of {{ data.known }}{{ chosen ? '' : ' who are known enter' }}</span><a :href="csv" download><el-button>CSV</el-button></a></div>
    <EntrantTable :people="data.items ?? []" />
    <p v-if="before.length || (data.items?.length ?? 0) === 100" class="tools"><el-button :disabled="!before.length" @click="before = before.slice(0, -1)">Before</el-button>
      <el-button :disabled="(data.items?.length ?? 0) < 100" @click="before = [...before, last]">Next</el-button></p>
  </template>
  <AdmissionList :application="name" @changed="look" />
</template>

<style scoped>
.counts strong { margin-right: 8px }
.counts .quiet { margin-left: 4px }
.counts { list-style: none; margin: 12px 0; padding: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(360px, 1fr)); gap: 8px }
.counts button { width: 100%; min-height: 44px; text-align: left; font: inherit; color: var(--ink); background: var(--sheet); border: 1px solid var(--line); border-radius: 4px; padding: 8px 12px; cursor: pointer }
.counts button[aria-pressed='true'] { border-color: var(--gate); box-shadow: inset 4px 0 0 var(--gate) }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
@media (max-width: 800px) { .counts { grid-template-columns: 1fr } }
</style>
