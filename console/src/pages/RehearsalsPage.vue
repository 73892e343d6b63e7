<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import RunsDrawn from '../components/RunsDrawn.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { ago, local, soon } from '../composables/words'

/** Saved sign-in tests, and what their newest runs came to. */
const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const search = ref(text(route.query.search))
const application = computed(() => text(route.query.application))
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/rehearsals', { params: { query: { application: application.value || undefined,
  search: search.value || undefined } } })), () => [application.value, search.value])
const days = 30
const { data: past, load: more } = useLoad(() => take(api.GET('/api/v1/rehearsals/past', { params: { query: { days } } })))
const shownPast = computed(() => past.value?.items?.filter((r) => data.value?.items?.some((i) => i.name === r.rehearsal)) ?? [])
/** All that the gate can go through by itself; each is shown as it ends. */
const able = computed(() => data.value?.items?.filter((r) => r.account && (!r.account.refused || r.account.refused.startsWith('0001'))) ?? [])
const left = ref(0)
async function runAll() {
  const names = able.value.map((r) => r.name)
  left.value = names.length
  await act(async () => {
    const wait = async (name: string) => {
      let r = await take(api.POST('/api/v1/rehearsals/{name}/unattended-runs', { params: { path: { name } } }))
      while (!r.ended || r.ended.startsWith('0001')) {
        await new Promise((done) => { setTimeout(done, 500) })
        r = await take(api.GET('/api/v1/runs/{id}', { params: { path: { id: r.id } } }))
      }
      left.value--
    }
    const lanes = Array.from({ length: 4 }, async () => { for (let n = names.shift(); n; n = names.shift()) await wait(n) })
    await Promise.all(lanes)
  })
  left.value = 0
  await more()
}
const tour = useLoad(() => take(api.GET('/api/v1/tour')))
const made = useLoad(() => take(api.GET('/api/v1/rehearsals/made')))
const states: Record<string, [string, string]> = { passed: ['●', 'passed'], failed: ['✕', 'refused'], stopped: ['◌', 'waiting'] }
const open = ref(false)
const preset = ref<Record<string, unknown>>()
const { failed, act } = useAct({ done: load })
function make(from?: Record<string, unknown>) {
  preset.value = { start: 'gate', ...(application.value ? { application: application.value } : {}), ...from }
  open.value = true
}
/** A recorded sign-in, or an application, that somebody came from to keep it as a rehearsal. */
watch(() => text(route.query.trace), (trace) => trace && act(async () => {
  make({ ...await take(api.GET('/api/v1/rehearsals/proposal', { params: { query: { trace } } })) })
  await router.replace({ query: {} })
}), { immediate: true })
</script>

<template>
  <div class="head"><div><h1>Rehearsals</h1>
    <p>Saved sign-in tests. A run passes over phases and nothing else, in a session of its own: nobody else is touched, and everything that it gave ends with it. <router-link v-if="tour.data.value?.items?.length" to="/rehearse-tour">Take the tour of {{ tour.data.value.items.length }} classic mistakes</router-link></p></div>
    <div class="tools"><el-button v-if="able.length" :disabled="left > 0" @click="runAll">{{ left ? `${left} to go` : able.length === 1 ? 'Run the one with a test account' : `Run all ${able.length} with a test account` }}</el-button>
      <el-button type="primary" @click="make()">Save a rehearsal</el-button></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools"><el-input v-model="search" clearable placeholder="Name, title, application, provider" aria-label="Search" style="width: 320px" />
    <router-link v-if="application" class="filter here" :to="{ query: {} }">{{ application }} ✕</router-link></div>
  <el-table :data="data?.items ?? []">
    <el-table-column label="Newest run" min-width="150"><template #default="{ row }">
      <span v-if="row.state" :class="states[row.state]?.[1]">{{ states[row.state]?.[0] }} {{ row.state }}</span><span v-else class="quiet">○ never run</span>
      <br v-if="row.before"><span v-if="row.before" class="waiting">▲ before the last change</span></template></el-table-column>
    <el-table-column label="Rehearsal" min-width="290"><template #default="{ row }"><router-link :to="`/rehearse/${row.name}`"><strong>{{ row.title }}</strong></router-link><br><code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Application" min-width="150"><template #default="{ row }"><router-link :to="`/connect/applications/${row.application}`">{{ row.application }}</router-link></template></el-table-column>
    <el-table-column label="Provider" min-width="140"><template #default="{ row }">{{ row.provider || 'as the rules decide' }}</template></el-table-column>
    <el-table-column label="Starts at" width="130"><template #default="{ row }">the {{ row.start }}</template></el-table-column>
    <el-table-column label="By itself" min-width="150"><template #default="{ row }"><span v-if="row.account?.finding" class="refused">✕ {{ row.username }}</span><span v-else-if="row.account">{{ row.username }}</span><span v-else-if="row.username" class="waiting">▲ no password</span><span v-else>–</span>
      <template v-if="row.next && !row.next.startsWith('0001')"><br><time class="quiet" :title="row.next">next {{ soon(row.next) }}</time></template></template></el-table-column>
    <el-table-column label="When" width="120"><template #default="{ row }"><time v-if="row.state" :title="local(row.at)">{{ ago(row.at) }}</time><span v-else>–</span></template></el-table-column>
    <template #empty>No rehearsals yet. Save one: an application, and what is expected of a sign-in to it. Or keep a recorded sign-in as one, from its trace.</template>
  </el-table>
  <RunsDrawn v-if="shownPast.length" :runs="shownPast" :days="days" />
  <section v-if="made.data.value?.items?.length" class="made"><h2>Made by rehearsals</h2>
    <p class="quiet">Accounts that a run made, of people who have not come for real since. Remove those that nobody will need.</p>
    <el-table :data="made.data.value.items">
      <el-table-column label="Person" min-width="240"><template #default="{ row }"><router-link :to="`/admit/people/${row.person}`">{{ row.name || `Person ${row.person}` }}</router-link></template></el-table-column>
      <el-table-column label="Run" width="120"><template #default="{ row }">{{ row.run }}</template></el-table-column>
      <el-table-column label="When" width="160"><template #default="{ row }"><time :title="local(row.at)">{{ ago(row.at) }}</time></template></el-table-column>
    </el-table></section>
  <SettledDrawer v-model="open" kind="rehearsal" :preset="preset" @saved="load" />
</template>
