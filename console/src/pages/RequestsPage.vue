<script setup lang="ts">
import { ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, take, type Schemas } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { ago, ends, local } from '../composables/words'

/** Admissions that were asked for, and wait for an owner. */
type Request = Schemas['EntryRequest']
const application = ref(String(useRoute().query.application ?? ''))
const state = ref<Request['state'] | ''>('waiting')
const { data, problem, load } = useLoad(async () => take(api.GET('/api/v1/entry-requests', { params: { query: { application: application.value || undefined, state: state.value || undefined, limit: 200 } } })),
  () => [application.value, state.value])
const { data: apps } = useLoad(async () => (await take(api.GET('/api/v1/applications'))).items ?? [])
const { busy, failed, act } = useAct({ done: load })
const remark = ref('')
const approve = (id: number, digest: string) => act(() => take(api.POST('/api/v1/entry-requests/{id}/approve', { params: { path: { id }, query: { remark: remark.value || undefined } }, body: { digest } })))
const decline = (id: number) => act(() => take(api.POST('/api/v1/entry-requests/{id}/decline', { params: { path: { id }, query: { remark: remark.value || undefined } } })))
const tones: Record<string, string> = { waiting: 'waiting', approved: 'passed', declined: 'refused', ended: 'quiet' }
const signs: Record<string, string> = { waiting: '○', approved: '●', declined: '✕', ended: '–' }
</script>

<template>
  <div class="head"><div><h1>Requests for entry</h1>
    <p>Asked for by people who were refused (setting <code>askForEntry</code> of the application), or by an owner where admissions wait for another one (setting <code>approval</code>). What is
      approved acts at once.</p></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools"><el-select v-model="application" filterable clearable placeholder="Every application" aria-label="Application" style="width: 300px">
      <el-option v-for="a in apps ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select>
    <el-select v-model="state" aria-label="State" style="width: 160px"><el-option v-for="s in ['waiting', 'approved', 'declined', 'ended'] as const" :key="s" :value="s" :label="s" /><el-option value="" label="all" /></el-select>
    <el-input v-model="remark" name="remark" maxlength="300" placeholder="Remark, kept with what you decide" aria-label="Remark" style="width: 320px" />
    <span class="quiet">{{ data?.waiting ?? 0 }} wait in all</span></div>
  <el-table v-if="data" :data="data.items ?? []">
    <el-table-column label="State" width="120"><template #default="{ row }"><span :class="tones[row.state]">{{ signs[row.state] }} {{ row.state }}</span></template></el-table-column>
    <el-table-column label="Admit" min-width="280"><template #default="{ row }">
      <div v-for="p in row.people ?? []" :key="p.number"><router-link :to="`/admit/people/${p.number}`">{{ p.name }}</router-link> <span class="quiet">{{ p.number }}</span>
        <span v-if="p.disabled" class="refused"> disabled</span><span v-if="p.gone" class="refused"> removed</span>
        <div v-if="p.called && p.called !== p.name" class="quiet called">{{ p.called.startsWith(`${p.name} · `) ? p.called.slice(p.name.length + 3) : p.called }}</div></div>
      <div v-for="g in row.groups ?? []" :key="g.name">the group {{ g.title }} <code class="quiet">{{ g.name }}</code><span v-if="g.gone" class="refused"> removed</span></div>
      <div v-if="row.everyone">everyone about whom nothing else is said</div><div v-if="row.atOnce">nobody: admissions act at once from then on</div>
      <div v-if="row.until" class="quiet">until {{ ends(row.until) }}</div></template></el-table-column>
    <el-table-column label="To" min-width="170"><template #default="{ row }"><router-link v-if="row.application" :to="`/connect/applications/${row.application}/entrants`">{{ row.title }}</router-link><span v-else class="refused">removed</span></template></el-table-column>
    <el-table-column label="Asked" min-width="190"><template #default="{ row }"><span :title="local(row.asked)">{{ ago(row.asked) }}</span> {{ row.author ? `by ${row.author}` : 'by themselves' }}
      <div v-if="row.why" class="quiet">{{ row.why }}</div></template></el-table-column>
    <el-table-column label="" min-width="210"><template #default="{ row }"><template v-if="row.state === 'waiting'"><el-button type="primary" size="small" :loading="busy" :aria-label="`Approve request ${row.number}`" @click="approve(row.number, row.digest)">Approve</el-button>
        <el-button size="small" :loading="busy" :aria-label="`Decline request ${row.number}`" @click="decline(row.number)">Decline</el-button></template>
      <span v-else-if="row.by" :title="local(row.decided)">{{ row.by }}, {{ ago(row.decided) }}<div v-if="row.remark" class="quiet">{{ row.remark }}</div></span></template></el-table-column>
    <template #empty>Nothing waits. People can ask where an application has <code>askForEntry</code>.</template>
  </el-table>
</template>

<style scoped>
.called { overflow-wrap: anywhere }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
</style>
