<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Application } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'

const router = useRouter()
const search = ref('')
const page = ref(1)
const size = 100
const { data, problem, loading } = useLoad(
  () => take(api.GET('/api/v1/applications', { params: { query: { search: search.value, limit: size, offset: (page.value - 1) * size } } })),
  () => [search.value, page.value],
)
const open = (row: Application) => router.push(`/connect/applications/${row.name}`)
</script>

<template>
  <div class="head">
    <div>
      <h1>Applications</h1>
      <p>What people want to reach.</p>
    </div>
    <router-link to="/connect/applications/add"><el-button type="primary">Add an application</el-button></router-link>
  </div>
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Name, title or entity ID" aria-label="Search" style="width: 320px" @input="page = 1" />
    <span v-if="data" class="quiet">{{ data.total }} {{ data.total === 1 ? 'application' : 'applications' }}</span>
  </div>
  <ProblemBox :problem="problem" />
  <el-table v-loading="loading && !data" :data="data?.items ?? []" :empty-text="search ? 'Nothing matches.' : 'None yet. Add an application with the button above.'" @row-click="open">
    <el-table-column label="Title" min-width="180"><template #default="{ row }"><router-link :to="`/connect/applications/${row.name}`" @click.stop>{{ row.title }}</router-link></template></el-table-column>
    <el-table-column prop="name" label="Short name" min-width="140" />
    <el-table-column prop="entityId" label="Entity ID" min-width="280"><template #default="{ row }"><code :title="row.entityId">{{ row.entityId }}</code></template></el-table-column>
    <el-table-column label="Protocol" width="100"><template #default="{ row }">{{ row.protocol.toUpperCase() }}</template></el-table-column>
    <el-table-column label="Provider" min-width="140"><template #default="{ row }">{{ row.provider || "by routing" }}</template></el-table-column>
  </el-table>
  <el-pagination v-if="data && data.total > size" v-model:current-page="page" :page-size="size" :total="data.total" layout="prev, pager, next" />
</template>
