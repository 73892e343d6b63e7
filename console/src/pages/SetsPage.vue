<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

const router = useRouter()
const { data, problem } = useLoad(async () => (await take(api.GET('/api/v1/sets'))).items ?? [])
const name = ref('')
const title = ref('')
const way = ref<'intake' | 'release'>('release')
const { busy, failed, act } = useAct()
const add = () => act(async () => {
  await take(api.PUT('/api/v1/sets/{name}', { params: { path: { name: name.value } },
    body: { way: way.value, title: title.value || name.value, mapping: { rules: [] }, revision: 0 } }))
  await router.push(`/map/sets/${name.value}`)
})
</script>

<template>
  <div class="head"><div><h1>Sets</h1>
    <p>Rules that several connections share. A change acts at once on everybody who shares the set; what one of them says
      itself is laid over it.</p></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <el-table v-if="data?.length" :data="data">
    <el-table-column label="Rules" width="80"><template #default="{ row }">{{ row.mapping.rules?.length ?? 0 }}</template></el-table-column>
    <el-table-column label="Title" min-width="220"><template #default="{ row }"><router-link :to="`/map/sets/${row.name}`">{{ row.title }}</router-link>
    </template></el-table-column>
    <el-table-column label="Name" min-width="160"><template #default="{ row }"><code>{{ row.name }}</code></template></el-table-column>
    <el-table-column label="For" width="110" prop="way" />
    <el-table-column label="Shared by" width="110"><template #default="{ row }">{{ row.using?.length ?? 0 }}</template></el-table-column>
  </el-table>
  <p v-else-if="data" class="quiet">No sets yet. Make one when the second connection needs the same rules as the first.</p>
  <h2>Make a set</h2>
  <el-form inline class="sheet add" @submit.prevent="add">
    <el-form-item label="Short name"><el-input v-model="name" name="name" /></el-form-item>
    <el-form-item label="Title"><el-input v-model="title" name="title" /></el-form-item>
    <el-form-item label="For"><el-select v-model="way" aria-label="For" style="width: 220px">
      <el-option value="release" label="release, to applications" /><el-option value="intake" label="intake, of providers" /></el-select>
    </el-form-item>
    <el-form-item><el-button type="primary" native-type="submit" :loading="busy" :disabled="!name">Make it</el-button></el-form-item>
  </el-form>
</template>

<style scoped>
.add { padding: 16px 16px 0 }
</style>
