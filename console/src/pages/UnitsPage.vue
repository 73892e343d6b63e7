<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Unit } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

/** Groups, or organisations. */
const props = defineProps<{ kind: 'group' | 'organisation' }>()

type Branch = Unit & { children: Branch[] }
type Column = { label: string; width: number; of: (u: Unit) => string }
const joined = (words?: string[] | null) => words?.join(', ') ?? ''
const marks: Column = { label: 'Marks as', width: 130, of: (u) => u.userType ?? '' }
const kinds = {
  group: {
    title: 'Groups', article: 'a group', search: 'Name, title or what providers call it',
    columns: [marks, { label: 'Providers call it', width: 200, of: (u: Unit) => joined(u.values) },
      { label: 'Takes new people of', width: 160, of: (u: Unit) => joined(u.landing) }],
    empty: 'No groups yet. Make one, or have a provider’s values make them (groupValues).',
    list: () => api.GET('/api/v1/groups'), remove: (name: string) => api.DELETE('/api/v1/groups/{name}', { params: { path: { name } } }),
  },
  organisation: {
    title: 'Organisations', article: 'an organisation', search: 'Name, title or domain',
    columns: [{ label: 'Providers', width: 160, of: (u: Unit) => joined(u.providers) }, { label: 'Domains', width: 200, of: (u: Unit) => joined(u.domains) },
      { label: 'Land in', width: 120, of: (u: Unit) => joined(u.groups) }, marks],
    empty: 'No organisations yet. Make one for each company whose people come here.',
    list: () => api.GET('/api/v1/organisations'), remove: (name: string) => api.DELETE('/api/v1/organisations/{name}', { params: { path: { name } } }),
  },
}
const of = computed(() => kinds[props.kind])
const { data, problem, load } = useLoad(async () => (await take(of.value.list())).items ?? [], () => [props.kind])
const search = ref('')
const matching = computed(() => { const text = search.value.trim().toLowerCase()
  return (data.value ?? []).filter((u) => !text || [u.name, u.title, ...(u.values ?? []), ...(u.domains ?? [])].some((v) => v.toLowerCase().includes(text))) })
/** Those that lie in others as a tree; while searching, those that match alone. */
const tree = computed<Branch[]>(() => {
  if (search.value.trim()) return matching.value.map((u) => ({ ...u, children: [] }))
  const inside = new Map<string, Unit[]>()
  for (const u of data.value ?? []) {
    const beside = inside.get(u.inside ?? '')
    if (beside) beside.push(u)
    else inside.set(u.inside ?? '', [u])
  }
  const below = (name: string): Branch[] => (inside.get(name) ?? []).map((u) => ({ ...u, children: below(u.name) }))
  return below('')
})
/** Pages are of branches; a large tree is opened by hand. */
const atOnce = 100
const page = ref(1)
watch(search, () => { page.value = 1 })
const shown = computed(() => tree.value.slice((page.value - 1) * atOnce, page.value * atOnce))
const open = ref(false)
const chosen = ref<Unit>()
function edit(u?: Unit) {
  chosen.value = u
  open.value = true
}
const { failed, act } = useAct({ done: load })
const admitted = ref<Unit>()
const apps = ref<string[]>([])
const until = ref('')
const { data: choices } = useLoad(async () => (props.kind === 'group' ? (await take(api.GET('/api/v1/applications'))).items ?? [] : []), () => [props.kind])
const admitting = useAct({ done: () => { admitted.value = undefined } })
const admit = () => admitting.act(async () => {
  for (const name of apps.value) await take(api.POST('/api/v1/applications/{name}/admissions', { params: { path: { name } }, body: { groups: [admitted.value!.name], until: until.value || undefined } }))
})
function choose(u: Unit) {
  apps.value = []
  until.value = ''
  admitted.value = u
}
/** What follows for whoever is in a group, and who puts them in. */
const looked = ref<string>()
const { data: one } = useLoad(async () => (looked.value ? take(api.GET('/api/v1/groups/{name}', { params: { path: { name: looked.value } } })) : undefined), () => [looked.value])
const remove = (u: Unit) => act(() => take(of.value.remove(u.name)))
</script>

<template>
  <div class="head"><div><h1>{{ of.title }}</h1>
    <p v-if="kind === 'group'">Whoever is in a group is in all that it lies in. A provider whose <code>groupValues</code> are followed puts people in and takes them out
      by what it says at each sign-in; all else stays as it was set here.</p>
    <p v-else>Client companies and partners. Whoever first comes by one of their providers, or with a verified address of one of their domains, is
      theirs, lands in their groups and is marked as they say.</p></div>
    <el-button type="primary" @click="edit()">Make {{ of.article }}</el-button></div>
  <ProblemBox :problem="problem ?? failed" />
  <div v-if="data?.length" class="tools"><el-input v-model="search" clearable :placeholder="of.search" :aria-label="`Search ${of.title.toLowerCase()}`" name="search" style="width: 300px" />
    <span class="quiet">{{ matching.length }}</span></div>
  <el-table v-if="data" :data="shown" row-key="name" :default-expand-all="data.length <= atOnce">
    <el-table-column :label="of.title.slice(0, -1)" min-width="260"><template #default="{ row }"><button v-if="kind === 'group'" type="button" class="title" @click="looked = row.name">{{ row.title }}</button><strong v-else>{{ row.title }}</strong> <code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="People" width="100"><template #default="{ row }"><router-link :to="{ path: '/admit/people', query: { [kind]: row.name } }">{{ row.members }}</router-link></template></el-table-column>
    <el-table-column v-for="c in of.columns" :key="c.label" :label="c.label" :min-width="c.width"><template #default="{ row }"><span :title="c.of(row as Unit)">{{ c.of(row as Unit) || '–' }}</span></template></el-table-column>
    <el-table-column label="" :width="kind === 'group' ? 250 : 180"><template #default="{ row }"><el-button v-if="kind === 'group'" link type="primary" :aria-label="`Admit ${row.title}`" @click="choose(row as Unit)">Admit</el-button>
      <el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row as Unit)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row as Unit)">Remove</el-button></template></el-table-column>
    <template #empty>{{ search ? 'None like that.' : of.empty }}</template>
  </el-table>
  <el-pagination v-if="tree.length > atOnce" v-model:current-page="page" :page-size="atOnce" :total="tree.length" layout="prev, pager, next" />
  <el-drawer :model-value="!!looked" :title="one?.title ?? ''" size="480px" @close="looked = undefined">
    <template v-if="one"><h2>Who puts people in</h2>
      <p v-if="!one.putIn?.length">Engineers, lists and organisations alone: no provider’s values make members (setting <code>groupValues</code>).</p>
      <template v-else><p>Engineers, lists and organisations, and these providers, whose administrators so decide on what is said below:</p>
        <ul><li v-for="p in one.putIn" :key="p"><router-link :to="`/connect/providers/${p}`">{{ p }}</router-link></li></ul>
        <p>when they send one of <code v-for="v in one.called" :key="v" class="called">{{ v }}</code></p></template>
      <h2>Whoever is in it</h2>
      <ul v-if="one.effects?.length"><li v-for="x in one.effects" :key="x">{{ x }}</li></ul><p v-else>Nothing is said of them.</p></template>
  </el-drawer>
  <el-drawer :model-value="!!admitted" :title="`Admit ${admitted?.title ?? ''} to applications`" size="420px" @close="admitted = undefined">
    <ProblemBox :problem="admitting.failed.value" />
    <el-form label-position="top" @submit.prevent="admit">
      <el-form-item label="Applications"><el-select v-model="apps" multiple filterable aria-label="Applications"><el-option v-for="a in choices ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select></el-form-item>
      <el-form-item label="Until the end of a day (UTC)"><el-input v-model="until" name="until" placeholder="for good, or like 2027-01-31" /></el-form-item>
      <el-button type="primary" native-type="submit" :loading="admitting.busy.value" :disabled="!apps.length">Give entry</el-button>
    </el-form>
  </el-drawer>
  <SettledDrawer v-model="open" :kind="kind" :name="chosen?.name" @saved="load" />
</template>

<style scoped>
.title { font: inherit; font-weight: 600; color: var(--ink); background: none; border: 0; padding: 0; text-decoration: underline; cursor: pointer; text-align: left }
.called { margin-right: 8px }
</style>
