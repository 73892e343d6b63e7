<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Provider } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { days } from '../composables/words'

const router = useRouter()
const search = ref('')
const page = ref(1)
const size = 100
const { data, problem, loading } = useLoad(
  () => take(api.GET('/api/v1/providers', { params: { query: { search: search.value, limit: size, offset: (page.value - 1) * size } } })),
  () => [search.value, page.value],
)
const open = (row: Provider) => router.push(`/connect/providers/${row.name}`)
</script>

<template>
  <div class="head">
    <div>
      <h1>Providers</h1>
      <p>Identity providers the gate sends people to.</p>
    </div>
    <router-link to="/connect/providers/add"><el-button type="primary">Add a provider</el-button></router-link>
  </div>
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Name, title or entity ID" aria-label="Search" style="width: 320px" @input="page = 1" />
    <span v-if="data" class="quiet">{{ data.total }} {{ data.total === 1 ? 'provider' : 'providers' }}</span>
  </div>
  <ProblemBox :problem="problem" />
  <el-table v-loading="loading && !data" :data="data?.items ?? []" :empty-text="search ? 'Nothing matches.' : 'None yet. Add a provider with the button above.'" @row-click="open">
    <el-table-column label="Title" min-width="180"><template #default="{ row }"><router-link :to="`/connect/providers/${row.name}`" @click.stop>{{ row.title }}</router-link></template></el-table-column>
    <el-table-column prop="name" label="Short name" min-width="140" />
    <el-table-column prop="entityId" label="Entity ID" min-width="280"><template #default="{ row }"><code :title="row.entityId">{{ row.entityId }}</code></template></el-table-column>
    <el-table-column label="Protocol" width="100"><template #default="{ row }">{{ row.protocol.toUpperCase() }}</template></el-table-column>
    <el-table-column label="Certificate ends" width="150"><template #default="{ row }">{{ row.certificates[0]?.notAfter ? days(row.certificates[0].notAfter) : "–" }}</template></el-table-column>
  </el-table>
  <el-pagination v-if="data && data.total > size" v-model:current-page="page" :page-size="size" :total="data.total" layout="prev, pager, next" />
</template>
