<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Unit } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

type Branch = Unit & { children: Branch[] }
const { data, problem, load } = useLoad(async () => (await take(api.GET('/api/v1/groups'))).items ?? [])
const search = ref('')
const matching = computed(() => { const text = search.value.trim().toLowerCase()
  return (data.value ?? []).filter((g) => !text || [g.name, g.title, ...(g.values ?? [])].some((v) => v.toLowerCase().includes(text))) })
/** The groups as a tree; while searching, those that match alone. */
const tree = computed<Branch[]>(() => {
  if (search.value.trim()) return matching.value.map((g) => ({ ...g, children: [] }))
  const inside = new Map<string, Unit[]>()
  for (const g of data.value ?? []) {
    const beside = inside.get(g.inside ?? '')
    if (beside) beside.push(g)
    else inside.set(g.inside ?? '', [g])
  }
  const below = (name: string): Branch[] => (inside.get(name) ?? []).map((g) => ({ ...g, children: below(g.name) }))
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
const remove = (u: Unit) => act(() => take(api.DELETE('/api/v1/groups/{name}', { params: { path: { name: u.name } } })))
</script>

<template>
  <div class="head"><div><h1>Groups</h1>
    <p>Whoever is in a group is in all that it lies in. A provider whose <code>groupValues</code> are followed puts people in and takes them out
      by what it says at each sign-in; all else stays as it was set here.</p></div>
    <el-button type="primary" @click="edit()">Make a group</el-button></div>
  <ProblemBox :problem="problem ?? failed" />
  <div v-if="data?.length" class="tools"><el-input v-model="search" clearable placeholder="Name, title or what providers call it" aria-label="Search groups" name="search" style="width: 300px" />
    <span class="quiet">{{ matching.length }}</span></div>
  <el-table v-if="data" :data="shown" row-key="name" :default-expand-all="data.length <= atOnce">
    <el-table-column label="Group" min-width="280"><template #default="{ row }"><strong>{{ row.title }}</strong> <code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="People" width="100"><template #default="{ row }"><router-link :to="{ path: '/admit/people', query: { group: row.name } }">{{ row.members }}</router-link></template></el-table-column>
    <el-table-column label="Marks as" width="130"><template #default="{ row }">{{ row.userType || '–' }}</template></el-table-column>
    <el-table-column label="Providers call it" min-width="200"><template #default="{ row }"><span :title="row.values?.join(', ')">{{ row.values?.join(', ') || '–' }}</span></template></el-table-column>
    <el-table-column label="Takes new people of" min-width="160"><template #default="{ row }">{{ row.landing?.join(', ') || '–' }}</template></el-table-column>
    <el-table-column label="" width="150"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row as Unit)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row as Unit)">Remove</el-button></template></el-table-column>
    <template #empty>{{ search ? 'No group like that.' : 'No groups yet. Make one, or have a provider’s values make them (groupValues).' }}</template>
  </el-table>
  <el-pagination v-if="tree.length > atOnce" v-model:current-page="page" :page-size="atOnce" :total="tree.length" layout="prev, pager, next" />
  <SettledDrawer v-model="open" kind="group" :name="chosen?.name" @saved="load" />
</template>
