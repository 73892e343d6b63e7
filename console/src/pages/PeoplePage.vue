<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds } from '../composables/objects'
import { ago, local } from '../composables/words'
import { useRouter } from 'vue-router'

const router = useRouter()
const state = ref('')
const after = ref(0)
watch(state, () => { after.value = 0 })
const limit = 100
const { data, problem, loading } = useLoad(() => take(api.GET('/api/v1/people',
  { params: { query: { ...(state.value ? { state: state.value } : {}), after: after.value, limit } } })), () => [state.value, after.value])
const { data: providers } = useLoad(async () => (await kinds.provider.list({ limit: 20000 })).items)
const provider = ref('')
const subject = ref('')
const { busy, failed, act } = useAct()
const add = () => act(async () => {
  const p = await take(api.POST('/api/v1/people', { body: { provider: provider.value, subject: subject.value } }))
  await router.push(`/admit/people/${p.number}`)
})
const filters = [{ key: '', label: 'All' }, { key: 'enabled', label: 'Enabled' }, { key: 'disabled', label: 'Disabled' }]
</script>

<template>
  <div class="head"><div><h1>People</h1>
    <p>Accounts of the gate, with the names by which providers call them. Somebody gets one at the first sign-in, unless the
      provider lets in only people who are known.</p></div></div>
  <ProblemBox :problem="problem" />
  <div class="tools">
    <button v-for="f in filters" :key="f.key" type="button" class="filter" :class="{ here: state === f.key }"
        :aria-pressed="state === f.key" @click="state = f.key">{{ f.label }}<template v-if="state === f.key && data"> {{ data.total }}</template></button>
  </div>
  <el-table v-loading="loading" :data="data?.items ?? []">
    <el-table-column label="State" width="110"><template #default="{ row }"><span :class="row.disabled ? 'refused' : 'passed'">{{ row.disabled ?
      '✕ disabled' : '● enabled' }}</span></template></el-table-column>
    <el-table-column label="Person" width="90"><template #default="{ row }"><router-link :to="`/admit/people/${row.number}`">{{ row.number }}</router-link>
    </template></el-table-column>
    <el-table-column label="Known as" min-width="360"><template #default="{ row }"><template v-for="(k, i) in row.links" :key="k.key"><template
        v-if="i">, </template><code>{{ k.subject?.value ?? 'name not kept' }}</code> <span class="quiet">{{ k.provider.name || k.provider.id }}</span></template>
    </template></el-table-column>
    <el-table-column label="Added" width="140"><template #default="{ row }"><time :title="local(row.added)">{{ ago(row.added) }}</time></template>
    </el-table-column>
    <template #empty>{{ state === 'disabled' ? 'Nobody is disabled.' : 'Nobody is known yet: people are at their first sign-in.' }}</template>
  </el-table>
  <p v-if="(data?.items?.length ?? 0) >= limit || after" class="tools">
    <el-button :disabled="!after" @click="after = 0">First</el-button>
    <el-button :disabled="(data?.items?.length ?? 0) < limit" @click="after = data!.items![data!.items!.length - 1]!.number">Next</el-button></p>
  <h2>Make somebody known before they come</h2>
  <ProblemBox :problem="failed" />
  <el-form inline class="sheet add" @submit.prevent="add">
    <el-form-item label="Provider"><el-select v-model="provider" aria-label="Provider" filterable style="width: 220px">
      <el-option v-for="p in providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select></el-form-item>
    <el-form-item label="It calls them (NameID or sub)"><el-input v-model="subject" name="subject" style="width: 280px" /></el-form-item>
    <el-form-item><el-button type="primary" native-type="submit" :loading="busy" :disabled="!provider || !subject">Add</el-button></el-form-item>
  </el-form>
</template>

<style scoped>
button.filter { font: inherit; cursor: pointer }
.add { padding: 16px 16px 0 }
</style>
