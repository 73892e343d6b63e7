<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Row } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { kinds } from '../composables/objects'
import { protocols } from '../composables/words'

const { data, problem, loading } = useLoad(async () => {
  const [p, a] = await Promise.all([kinds.provider.list({ limit: 20000 }), kinds.application.list({ limit: 20000 })])
  return [...p.items.map((r) => ({ ...r, kind: 'provider' })), ...a.items.filter((r) => r.protocol !== 'link')
    .map((r) => ({ ...r, kind: 'application' }))]
})
const search = ref('')
const only = ref('')
type Line = Row & { kind: string }
const filters: { key: string; label: string; fits: (r: Line) => boolean }[] = [
  { key: '', label: 'All', fits: () => true }, { key: 'intake', label: 'Intake', fits: (r) => r.kind === 'provider' },
  { key: 'release', label: 'Release', fits: (r) => r.kind === 'application' },
  { key: 'rules', label: 'With rules', fits: (r) => r.rules > 0 }, { key: 'set', label: 'Over a set', fits: (r) => !!r.set }]
const lines = computed(() => (data.value ?? []).filter(filters.find((f) => f.key === only.value)!.fits).filter((r) =>
  !search.value || `${r.name} ${r.title} ${r.set ?? ''}`.toLowerCase().includes(search.value.toLowerCase())))
const most = 200
</script>

<template>
  <div class="head"><div><h1>Mappings</h1>
    <p>What becomes of attributes and claims: into the profile at a provider's intake, and out of it at an application's
      release. Without rules everything passes unchanged.</p></div></div>
  <ProblemBox :problem="problem" />
  <div class="tools">
    <el-input v-model="search" placeholder="Search name, title or set" aria-label="Search the mappings" clearable class="search" />
    <button v-for="f in filters" :key="f.key" type="button" class="filter" :class="{ here: only === f.key }" :aria-pressed="only === f.key"
        @click="only = f.key">{{ f.label }} {{ (data ?? []).filter(f.fits).length }}</button>
  </div>
  <el-table v-loading="loading" :data="lines.slice(0, most)">
    <el-table-column label="Rules" width="110"><template #default="{ row }"><span :class="row.rules ? 'passed' : 'quiet'">{{ row.rules ?
      `● ${row.rules}` : '○ none' }}</span></template></el-table-column>
    <el-table-column label="Mapping" min-width="240"><template #default="{ row }"><router-link
        :to="`/connect/${row.kind}s/${row.name}/mapping`">{{ row.kind === 'provider' ? 'Intake' : 'Release' }} of {{ row.title }}</router-link>
    </template></el-table-column>
    <el-table-column label="Name" min-width="160"><template #default="{ row }"><code>{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Protocol" width="150"><template #default="{ row }">{{ protocols[row.protocol] ?? row.protocol }}</template>
    </el-table-column>
    <el-table-column label="Over the set" min-width="160"><template #default="{ row }"><router-link v-if="row.set"
        :to="`/map/sets/${row.set}`">{{ row.set }}</router-link><span v-else class="quiet">none</span></template></el-table-column>
    <template #empty><template v-if="data?.length">Nothing matches.</template><template v-else>Nothing is connected yet.
      <router-link to="/connect/providers/add">Add a provider</router-link> first.</template></template>
  </el-table>
  <p v-if="lines.length > most" class="quiet">The first {{ most }} of {{ lines.length }}; search for the others.</p>
</template>

<style scoped>
.search { width: 280px }
button.filter { font: inherit; cursor: pointer }
</style>
