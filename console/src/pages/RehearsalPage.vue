<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import RunPanel from '../components/RunPanel.vue'
import RunsDrawn from '../components/RunsDrawn.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import TakeAlong from '../components/TakeAlong.vue'
import TestAccountPanel from '../components/TestAccountPanel.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { ago, local } from '../composables/words'

/** One rehearsal: what is expected, its runs, and the run that goes on. */
const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const path = computed(() => ({ params: { path: { name: props.name } } }))
const { data: list, problem, load } = useLoad(() => take(api.GET('/api/v1/rehearsals')), () => props.name)
const it = computed(() => list.value?.items?.find((r) => r.name === props.name))
const { data: runs, problem: wrong, load: again } = useLoad(() => take(api.GET('/api/v1/rehearsals/{name}/runs', path.value)), () => props.name)
const chosen = computed(() => Number(route.query.run) || runs.value?.items?.[0]?.id)
const links = ref<Record<number, string>>({})
const { failed, act } = useAct({ done: again })
const days = 30
const { data: past, load: more } = useLoad(() => take(api.GET('/api/v1/rehearsals/past', { params: { query: { rehearsal: props.name, days } } })), () => props.name)
/** The gate goes through a run by itself, where there is a test account. */
const alone = computed(() => !!it.value?.account)
const drive = () => act(async () => {
  const r = await take(api.POST('/api/v1/rehearsals/{name}/unattended-runs', path.value))
  await router.replace({ query: { run: String(r.id) } })
})
const begin = () => act(async () => {
  const r = await take(api.POST('/api/v1/rehearsals/{name}/runs', path.value))
  if (r.link) links.value = { ...links.value, [r.id]: r.link }
  await router.replace({ query: { run: String(r.id) } })
})
const remove = () => act(async () => {
  await take(api.DELETE('/api/v1/objects/{kind}/{name}', { params: { path: { kind: 'rehearsal', name: props.name } } }))
  await router.push('/rehearse')
})
/** The last run before another that passed, to hold it against. */
const good = (id: number) => runs.value?.items?.find((o) => o.id < id && o.verdict.state === 'passed' && o.traces?.length)
const open = ref(false)
const changed = () => Promise.all([load(), again(), more()])
watch(() => props.name, () => { links.value = {} })
const states: Record<string, [string, string]> = { waiting: ['◐', 'waiting'], passed: ['●', 'passed'], failed: ['✕', 'refused'], stopped: ['◌', 'waiting'] }
</script>

<template>
  <ProblemBox :problem="problem ?? wrong ?? failed" />
  <template v-if="it">
    <div class="head"><div><h1>{{ it.title }}</h1>
      <p><code>{{ it.name }}</code> · <router-link :to="`/connect/applications/${it.application}`">{{ it.application }}</router-link> by
        {{ it.provider || 'what the rules decide' }}, started at the {{ it.start }}</p></div>
      <div class="tools"><el-button v-if="alone" type="primary" @click="drive">Run it</el-button>
        <el-button :type="alone ? undefined : 'primary'" @click="begin">{{ alone ? 'Run it by a link' : 'Run it' }}</el-button><el-button @click="open = true">Change</el-button>
        <TakeAlong kind="rehearsal" :name="name" :run="chosen" />
        <el-button type="danger" plain @click="remove">Remove</el-button></div></div>
    <p class="expect">Expected: <template v-for="(l, i) in it.expect" :key="l"><template v-if="i"> · </template><code>{{ l }}</code></template></p>
    <RunPanel v-if="chosen" :id="chosen" :key="chosen" :link="links[chosen]" @changed="changed" />
    <p v-else class="quiet">It was never run. {{ alone ? `Run it: the gate signs in as ${it.username}.` : 'Run it: you get a link for a private window.' }}</p>
    <TestAccountPanel :rehearsal="it" @changed="changed" />
    <RunsDrawn v-if="past?.items?.length" :runs="past.items" one :days="days" />
    <h2>Runs</h2>
    <el-table :data="runs?.items ?? []">
      <el-table-column label="Verdict" width="140"><template #default="{ row }"><span :class="states[row.verdict.state]?.[1]">{{ states[row.verdict.state]?.[0] }} {{ row.verdict.state }}</span></template></el-table-column>
      <el-table-column label="Run" width="90"><template #default="{ row }"><router-link :to="{ query: { run: row.id } }">{{ row.id }}</router-link></template></el-table-column>
      <el-table-column label="Began" width="130"><template #default="{ row }"><time :title="local(row.began)">{{ ago(row.began) }}</time></template></el-table-column>
      <el-table-column label="By" min-width="140" prop="by" />
      <el-table-column label="What differed" min-width="320"><template #default="{ row }"><span class="says">{{ row.verdict.lines?.find((l: { holds: boolean }) => !l.holds)?.came ?? row.halted ?? '–' }}</span></template></el-table-column>
      <el-table-column label="Application" min-width="140"><template #default="{ row }">{{ row.said?.symptom ?? '–' }}</template></el-table-column>
      <el-table-column label="Compare" width="150"><template #default="{ row }"><router-link v-if="row.traces?.length && good(row.id)"
        :to="{ path: `/watch/traces/${row.traces.at(-1)}/compare`, query: { with: good(row.id)?.traces?.at(-1) } }">with run {{ good(row.id)?.id }}</router-link><span v-else>–</span></template></el-table-column>
      <template #empty>It was never run.</template>
    </el-table>
    <SettledDrawer v-model="open" kind="rehearsal" :name="name" @saved="changed" />
  </template>
  <p v-else-if="list" class="quiet">There is no rehearsal of this name. <router-link to="/rehearse">All rehearsals</router-link></p>
</template>

<style scoped>
.expect { margin: 0 0 12px }
.expect code { overflow-wrap: anywhere }
.says { white-space: normal; overflow-wrap: anywhere }
</style>
