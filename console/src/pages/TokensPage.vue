<script setup lang="ts">
import { ref } from 'vue'
import { api, take, type Token } from '../api/client'
import CopyValue from '../components/CopyValue.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { days, local } from '../composables/words'

const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/tokens')))
const name = ref('')
const expires = ref('')
const made = ref<Token>()
const { failed, act } = useAct({ done: load })

const ends = (t: Token) => (!t.expires ? 'never' : Date.parse(t.expires) < Date.now() ? '✕ has ended' : days(t.expires))
const add = () =>
  act(async () => {
    made.value = await take(api.POST('/api/v1/tokens', { body: { name: name.value,
      expires: expires.value ? new Date(expires.value).toISOString() : undefined } }))
    name.value = expires.value = ''
  })
const remove = (t: Token) =>
  act(async () => {
    await take(api.DELETE('/api/v1/tokens/{name}', { params: { path: { name: t.name } } }))
    if (made.value?.name === t.name) made.value = undefined
  })
</script>

<template>
  <div class="head">
    <div>
      <h1>API tokens</h1>
      <p>Keys for the command line and for programs. A secret is shown once, when it is made, and stored as a hash.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <form class="tools" @submit.prevent="add">
    <el-input v-model="name" name="name" placeholder="Short name, like build-server" aria-label="Name of the new token"
        style="width: 280px" />
    <label>ends <input v-model="expires" type="date" name="expires" aria-label="When it ends" /> <span
        class="quiet">never, if empty</span></label>
    <el-button type="primary" native-type="submit">Make a token</el-button>
  </form>
  <div v-if="made?.secret" class="sheet made" role="status">
    <p><strong>The secret of {{ made.name }}.</strong> Copy it now; it is not shown again.</p>
    <CopyValue :value="made.secret" name="secret" />
  </div>
  <el-table :data="data?.items ?? []" empty-text="No token yet.">
    <el-table-column prop="name" label="Name" min-width="200" />
    <el-table-column prop="by" label="Made by" min-width="200" />
    <el-table-column label="Made at" width="200"><template #default="{ row }">
      <time :title="row.added">{{ local(row.added) }}</time></template></el-table-column>
    <el-table-column label="Ends" width="140"><template #default="{ row }">{{ ends(row as Token) }}</template>
    </el-table-column>
    <el-table-column label="Remove" width="120"><template #default="{ row }">
      <el-button size="small" @click="remove(row as Token)">Remove</el-button></template></el-table-column>
  </el-table>
</template>

<style scoped>
.made { padding: 12px 16px; margin-bottom: 12px; border-left: 4px solid var(--passed) }
input[type='date'] { font: inherit; padding: 4px 8px; color: var(--ink); background: var(--sheet); border: 1px solid var(--el-border-color); border-radius: 4px }
.made p { margin-bottom: 4px }
</style>
