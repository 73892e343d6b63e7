<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { api, because, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { shown } from '../composables/rules'
import { ago, local } from '../composables/words'

const props = defineProps<{ number: string }>()
const router = useRouter()
const path = computed(() => ({ params: { path: { number: Number(props.number) } } }))
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/people/{number}', path.value)), () => props.number)
const known = computed(() => (data.value?.links ?? []).map((k) => k.subject?.value).filter((n): n is string => !!n))
const { data: traces } = useLoad(async () => (known.value[0] ? (await take(api.GET('/api/v1/traces',
  { params: { query: { search: known.value[0], limit: 10 } } }))).items ?? [] : []), () => known.value[0])
const { busy, failed, act } = useAct({ done: load })
const { failed: stuck, act: go } = useAct()
const holds = computed(() => { const p = data.value; const n = (count: number, word: string) => `${count} ${word}${count === 1 ? '' : 's'}`
  return p ? [n(p.sessions, 'session'), n(p.grants, 'grant'), n(p.subjects, 'lasting name'), n(p.consents, 'consent')].join(', ') : '' })

async function sure(text: string, title: string, does: string) {
  try {
    return ((await ElMessageBox.prompt(text, title, { confirmButtonText: does, cancelButtonText: 'Leave it', type: 'warning',
      inputPlaceholder: 'Why (optional)' })) as { value?: string }).value ?? ''
  } catch {
    return undefined
  }
}
async function disable() {
  const why = await sure(`They hold ${holds.value}. Sessions and grants end at once, and the applications that want to hear of it are told.`,
    `Disable person ${props.number}?`, 'Disable')
  if (why !== undefined) await act(() => because(why, () => take(api.POST('/api/v1/people/{number}/disable', path.value))))
}
const enable = () => act(() => take(api.POST('/api/v1/people/{number}/enable', path.value)))
async function remove() {
  const why = await sure(`They hold ${holds.value}. All of it goes, with their links and traces; only the history says that it was done. Should they come again, they are somebody new.`,
    `Remove person ${props.number}?`, 'Remove')
  if (why === undefined) return
  await go(async () => {
    await because(why, () => take(api.DELETE('/api/v1/people/{number}', path.value)))
    await router.push('/admit/people')
  })
}
</script>

<template>
  <ProblemBox :problem="problem ?? failed ?? stuck" />
  <template v-if="data">
    <div class="head"><div><h1>{{ known[0] ?? `Person ${number}` }}</h1>
      <p>person {{ data.number }} · <span :class="data.disabled ? 'refused' : 'passed'">{{ data.disabled ? '✕ disabled' : '● enabled' }}</span><template
          v-if="data.disabled"> since {{ local(data.disabled) }}</template> · added {{ ago(data.added) }} · {{ holds }}</p></div>
      <div class="tools"><el-button v-if="data.disabled" :loading="busy" @click="enable">Enable</el-button>
        <el-button v-else :loading="busy" @click="disable">Disable</el-button>
        <el-button type="danger" plain @click="remove">Remove</el-button></div></div>
    <h2>Known as</h2>
    <el-table :data="data.links ?? []">
      <el-table-column label="Name" min-width="300"><template #default="{ row }"><code>{{ row.subject?.value ?? 'not kept: made by an earlier build' }}</code>
      </template></el-table-column>
      <el-table-column label="Provider" min-width="180"><template #default="{ row }"><router-link v-if="row.provider.name && !row.provider.removed"
          :to="`/connect/providers/${row.provider.name}`">{{ row.provider.title || row.provider.name }}</router-link><span v-else
          class="quiet">{{ row.provider.name || row.provider.id }}, removed</span></template></el-table-column>
      <el-table-column label="Linked" width="140"><template #default="{ row }"><time v-if="row.added" :title="local(row.added)">{{ ago(row.added) }}</time>
      </template></el-table-column>
      <template #empty>No links: nobody comes as this person.</template>
    </el-table>
    <template v-if="data.values?.length">
      <h2>Kept with them</h2>
      <el-table :data="data.values">
        <el-table-column label="Attribute" min-width="200"><template #default="{ row }"><code>{{ row.name }}</code></template></el-table-column>
        <el-table-column label="Values" min-width="300"><template #default="{ row }">{{ shown(row.values).join(', ') }}</template></el-table-column>
        <el-table-column label="From" min-width="160"><template #default="{ row }">{{ row.from.title || row.from.name || row.from.id }}</template></el-table-column>
        <el-table-column label="Since" width="140"><template #default="{ row }"><time :title="local(row.at)">{{ ago(row.at) }}</time></template></el-table-column>
      </el-table>
    </template>
    <h2>Sign-ins of late</h2>
    <el-table :data="traces ?? []">
      <el-table-column label="Result" width="110"><template #default="{ row }"><span :class="{ entered: 'passed', refused: 'refused' }[row.result as string] ??
        'waiting'">{{ row.result }}</span></template></el-table-column>
      <el-table-column label="Reference" width="140"><template #default="{ row }"><router-link :to="`/watch/traces/${row.id}`">{{ row.id }}</router-link>
      </template></el-table-column>
      <el-table-column label="Application" min-width="180" prop="application" />
      <el-table-column label="Provider" min-width="160" prop="provider" />
      <el-table-column label="Started" width="140"><template #default="{ row }"><time :title="local(row.started)">{{ ago(row.started) }}</time></template>
      </el-table-column>
      <template #empty>None is recorded.</template>
    </el-table>
  </template>
</template>
