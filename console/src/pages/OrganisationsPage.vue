<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take, type Unit } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

const { data, problem, load } = useLoad(async () => ({ organisations: (await take(api.GET('/api/v1/organisations'))).items ?? [] }))
const atOnce = 100
const page = ref(1)
const shown = computed(() => data.value?.organisations.slice((page.value - 1) * atOnce, page.value * atOnce) ?? [])
const open = ref(false)
const chosen = ref<Unit>()
function edit(u?: Unit) {
  chosen.value = u
  open.value = true
}
const { failed, act } = useAct({ done: load })
const remove = (u: Unit) => act(() => take(api.DELETE('/api/v1/organisations/{name}', { params: { path: { name: u.name } } })))
</script>

<template>
  <div class="head"><div><h1>Organisations</h1>
    <p>Client companies and partners. Whoever first comes by one of their providers, or with a verified address of one of their domains, is
      theirs, lands in their groups and is marked as they say.</p></div>
    <el-button type="primary" @click="edit()">Make an organisation</el-button></div>
  <ProblemBox :problem="problem ?? failed" />
  <el-table :data="shown">
    <el-table-column label="Organisation" min-width="230"><template #default="{ row }"><strong>{{ row.title }}</strong> <code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="People" width="90"><template #default="{ row }"><router-link :to="{ path: '/admit/people', query: { organisation: row.name } }">{{ row.members }}</router-link></template></el-table-column>
    <el-table-column label="Providers" min-width="160"><template #default="{ row }">{{ row.providers?.join(', ') || '–' }}</template></el-table-column>
    <el-table-column label="Domains" min-width="200"><template #default="{ row }"><span :title="row.domains?.join(', ')">{{ row.domains?.join(', ') || '–' }}</span></template></el-table-column>
    <el-table-column label="Land in" min-width="120"><template #default="{ row }">{{ row.groups?.join(', ') || '–' }}</template></el-table-column>
    <el-table-column label="Marks as" width="120"><template #default="{ row }">{{ row.userType || '–' }}</template></el-table-column>
    <el-table-column label="" width="150"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row as Unit)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row as Unit)">Remove</el-button></template></el-table-column>
    <template #empty>No organisations yet. Make one for each company whose people come here.</template>
  </el-table>
  <el-pagination v-if="data && data.organisations.length > atOnce" v-model:current-page="page" :page-size="atOnce" :total="data.organisations.length" layout="prev, pager, next" />
  <SettledDrawer v-model="open" kind="organisation" :name="chosen?.name" @saved="load" />
</template>
