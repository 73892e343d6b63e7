<script setup lang="ts">
import { ref } from 'vue'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { local } from '../composables/words'

const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/owners')))
const form = ref({ username: '', password: '' })
const { failed, act } = useAct({ done: load })

const add = () =>
  act(async () => {
    await take(api.POST('/api/v1/owners', { body: form.value }))
    form.value = { username: '', password: '' }
  })
const remove = (name: string) => act(() => take(api.DELETE('/api/v1/owners/{name}', { params: { path: { name } } })))
</script>

<template>
  <div class="head">
    <div>
      <h1>Owners</h1>
      <p>Who may sign in to this console, and do everything in it. The last owner cannot be removed.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <form class="tools" @submit.prevent="add">
    <el-input v-model="form.username" name="username" autocomplete="off" placeholder="User name" aria-label="User name"
        style="width: 200px" />
    <el-input v-model="form.password" name="password" type="password" autocomplete="new-password"
        placeholder="Password, at least 12 characters" aria-label="Password" style="width: 280px" />
    <el-button type="primary" native-type="submit">Add an owner</el-button>
  </form>
  <el-table :data="data?.items ?? []" empty-text="No owner yet.">
    <el-table-column prop="username" label="User name" min-width="200" />
    <el-table-column label="Added" width="220"><template #default="{ row }">
      <time :title="row.added">{{ local(row.added) }}</time></template></el-table-column>
    <el-table-column width="120"><template #default="{ row }">
      <el-button size="small" @click="remove(row.username)">Remove</el-button></template></el-table-column>
  </el-table>
</template>
