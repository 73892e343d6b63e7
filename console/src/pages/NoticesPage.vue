<script setup lang="ts">
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { ago, local } from '../composables/words'

const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/notices', { params: { query: { limit: 200 } } })))
</script>

<template>
  <div class="head"><div><h1>Notices</h1>
    <p>What applications are to be told behind the browser, such as that somebody has signed out, and did not answer yet. Each is sent
      again for a day, less and less often.</p></div>
    <el-button @click="load">Refresh</el-button></div>
  <ProblemBox :problem="problem" />
  <el-table :data="data?.items ?? []" empty-text="Nothing waits: every application that wants to hear has heard.">
    <el-table-column label="Application" min-width="160"><template #default="{ row }"><router-link v-if="row.application"
        :to="`/connect/applications/${row.application}`">{{ row.application }}</router-link></template></el-table-column>
    <el-table-column label="Address" min-width="280"><template #default="{ row }"><code>{{ row.address }}</code></template></el-table-column>
    <el-table-column label="Tries" width="80"><template #default="{ row }"><span :class="{ refused: row.tries >= 3 }">{{ row.tries }}</span></template></el-table-column>
    <el-table-column label="Last answer" min-width="240"><template #default="{ row }">{{ row.answer || 'not sent yet' }}</template></el-table-column>
    <el-table-column label="Sent again" width="140"><template #default="{ row }"><time :title="local(row.due)">{{ ago(row.due) }}</time></template></el-table-column>
    <el-table-column label="Given up" width="140"><template #default="{ row }"><time :title="local(row.until)">{{ ago(row.until) }}</time></template></el-table-column>
  </el-table>
  <p v-if="data && (data.items?.length ?? 0) < data.total" class="quiet">The first {{ data.items?.length }} of {{ data.total }}.</p>
</template>
