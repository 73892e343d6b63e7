<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Person } from '../api/client'
import ManyPeople from '../components/ManyPeople.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds } from '../composables/objects'
import { ago, local, nameIDFormats } from '../composables/words'

/** What a list of people is narrowed by; it stands in the address, so that it can be sent on. */
const names = ['search', 'state', 'group', 'organisation', 'userType', 'provider'] as const
type Narrowed = Partial<Record<typeof names[number], string>>
const route = useRoute()
const router = useRouter()
const narrowed = computed<Narrowed>(() => Object.fromEntries(names.flatMap((n) => (typeof route.query[n] === 'string' && route.query[n]
  ? [[n, route.query[n] as string]] : []))))
const narrow = (n: typeof names[number], v: string | undefined) => router.replace({ query: { ...narrowed.value, [n]: v || undefined } })
const search = ref(narrowed.value.search ?? '')
let typing = 0
watch(search, (v) => { clearTimeout(typing); typing = window.setTimeout(() => void narrow('search', v.trim()), 200) })
const pages = ref<string[]>([])
watch(narrowed, () => { pages.value = [] })
const limit = 100
const after = computed(() => pages.value[pages.value.length - 1])
const chosen = shallowRef<Person[]>([])
const { data, problem, loading, load } = useLoad(() => take(api.GET('/api/v1/people',
  { params: { query: { ...narrowed.value, ...(after.value ? { after: after.value } : {}), limit } } })), () => [narrowed.value, after.value])
watch(data, () => { chosen.value = [] })
const { data: choices } = useLoad(async () => ({ providers: (await kinds.provider.list({ limit: 20000 })).items ?? [],
  groups: (await take(api.GET('/api/v1/groups'))).items ?? [], organisations: (await take(api.GET('/api/v1/organisations'))).items ?? [] }))
const types = computed(() => [...new Set([...(choices.value?.groups ?? []), ...(choices.value?.organisations ?? [])].map((u) => u.userType ?? '')
  .concat(narrowed.value.userType ?? ''))].filter(Boolean).sort())
const found = computed(() => { const d = data.value; return !d ? '' : d.total < 0 ? `${d.items?.length ?? 0} and more` : String(d.total) })
const any = computed(() => Object.keys(narrowed.value).length > 0)
const units = (p: Person) => [...new Set((p.members ?? []).map((m) => m.name))].join(', ')
const by = (p: Person) => [...new Set((p.links ?? []).map((k) => k.provider.name || k.provider.id))].join(', ')
const exported = computed(() => `/api/v1/people/export?${new URLSearchParams({ ...narrowed.value, form: 'csv' }).toString()}`)

const provider = ref('')
const subject = ref('')
const format = ref('')
/** NameID formats are of SAML alone. */
const formatted = computed(() => choices.value?.providers.find((p) => p.name === provider.value)?.protocol === 'saml')
const named = ref('')
const mail = ref('')
const { busy, failed, act } = useAct()
const add = () => act(async () => {
  const values = { ...(named.value ? { displayName: [named.value] } : {}), ...(mail.value ? { emails: [mail.value] } : {}) }
  const p = await take(api.POST('/api/v1/people', { body: { values, ...(provider.value ? { provider: provider.value, subject: subject.value, ...(formatted.value && format.value ? { format: format.value } : {}) } : {}) } }))
  await router.push(`/admit/people/${p.number}`)
})
</script>

<template>
  <div class="head"><div><h1>People</h1>
    <p>Accounts of the gate. Somebody gets one at the first sign-in, by a list, or by hand; who comes by a new name is found by what
      their provider is trusted for.</p></div>
    <div class="tools"><router-link to="/admit/import"><el-button>Import a list</el-button></router-link>
      <a :href="exported" download="people.csv"><el-button>Export {{ any ? 'these' : 'all' }}</el-button></a></div></div>
  <ProblemBox :problem="problem" />
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Name, address, number" aria-label="Search people" name="search" style="width: 240px" />
    <el-select :model-value="narrowed.state ?? ''" aria-label="State" clearable placeholder="any state" style="width: 130px" @change="(v: string) => narrow('state', v)">
      <el-option value="enabled" label="enabled" /><el-option value="disabled" label="disabled" /></el-select>
    <el-select :model-value="narrowed.organisation ?? ''" aria-label="Organisation" clearable filterable placeholder="any organisation" style="width: 180px"
        @change="(v: string) => narrow('organisation', v)"><el-option v-for="u in choices?.organisations ?? []" :key="u.name" :value="u.name" :label="u.title" /></el-select>
    <el-select :model-value="narrowed.group ?? ''" aria-label="Group" clearable filterable placeholder="any group" style="width: 170px" @change="(v: string) => narrow('group', v)">
      <el-option v-for="u in choices?.groups ?? []" :key="u.name" :value="u.name" :label="u.title" /></el-select>
    <el-select :model-value="narrowed.userType ?? ''" aria-label="User type" clearable placeholder="any type" style="width: 130px" @change="(v: string) => narrow('userType', v)">
      <el-option v-for="t in types" :key="t" :value="t" :label="t" /></el-select>
    <el-select :model-value="narrowed.provider ?? ''" aria-label="Provider" clearable filterable placeholder="any provider" style="width: 190px"
        @change="(v: string) => narrow('provider', v)"><el-option v-for="p in choices?.providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select>
    <span class="quiet" aria-live="polite">{{ found }}</span>
  </div>
  <ManyPeople :chosen="chosen" :groups="choices?.groups ?? []" @changed="load" />
  <el-table v-loading="loading" :data="data?.items ?? []" row-key="number">
    <el-table-column width="46"><template #header><el-checkbox :model-value="!!data?.items?.length && chosen.length === data.items.length" aria-label="Choose all that are shown"
        @change="(on) => (chosen = on ? [...(data?.items ?? [])] : [])" /></template>
      <template #default="{ row }"><el-checkbox :model-value="chosen.includes(row as Person)" :aria-label="`Choose ${(row as Person).name}`"
        @change="(on) => (chosen = on ? [...chosen, row as Person] : chosen.filter((p) => p !== row))" /></template></el-table-column>
    <el-table-column label="State" width="110"><template #default="{ row }"><span :class="row.disabled ? 'refused' : 'passed'">{{ row.disabled ?
      '✕ disabled' : '● enabled' }}</span></template></el-table-column>
    <el-table-column label="Name" min-width="220"><template #default="{ row }"><router-link :to="`/admit/people/${row.number}`">{{ row.name }}</router-link>
    </template></el-table-column>
    <el-table-column label="Type" width="120"><template #default="{ row }">{{ row.userType || '–' }}</template></el-table-column>
    <el-table-column label="Comes by" min-width="190"><template #default="{ row }">{{ by(row as Person) || '–' }}</template></el-table-column>
    <el-table-column label="Belongs to" min-width="220"><template #default="{ row }"><span :title="units(row as Person)">{{ units(row as Person) || '–' }}</span></template></el-table-column>
    <el-table-column label="Number" width="90" prop="number" />
    <el-table-column label="Added" width="120"><template #default="{ row }"><time :title="local(row.added)">{{ ago(row.added) }}</time></template>
    </el-table-column>
    <template #empty>{{ any ? 'Nobody like that.' : 'Nobody is known yet: people are at their first sign-in, or import a list.' }}</template>
  </el-table>
  <p v-if="data?.next || pages.length" class="tools below">
    <el-button :disabled="!pages.length" @click="pages = pages.slice(0, -1)">Back</el-button>
    <el-button :disabled="!data?.next" @click="pages = [...pages, data!.next!]">Next</el-button></p>
  <h2>Make somebody known before they come</h2>
  <ProblemBox :problem="failed" />
  <el-form class="sheet add" label-position="top" @submit.prevent="add">
    <el-form-item label="Name"><el-input v-model="named" name="displayName" /></el-form-item>
    <el-form-item label="E-mail address"><el-input v-model="mail" name="emails" /></el-form-item>
    <el-form-item label="Provider (optional)"><el-select v-model="provider" aria-label="Provider of the new person" filterable clearable>
      <el-option v-for="p in choices?.providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select></el-form-item>
    <el-form-item label="It calls them (NameID or sub)"><el-input v-model="subject" name="subject" :disabled="!provider" /></el-form-item>
    <el-form-item v-if="formatted" label="NameID format"><el-select v-model="format" aria-label="NameID format" clearable filterable allow-create placeholder="as it sends others">
      <el-option v-for="f in nameIDFormats" :key="f" :value="f" :label="f" /></el-select></el-form-item>
    <el-form-item label=" "><el-button type="primary" native-type="submit" :loading="busy" :disabled="provider ? !subject : !named && !mail">Add</el-button></el-form-item>
  </el-form>
</template>

<style scoped>
.add { padding: 16px 16px 0; display: grid; grid-template-columns: repeat(auto-fit, minmax(180px, 1fr)); gap: 0 16px }
.below { margin-top: 12px }
@media (max-width: 900px) { .add { grid-template-columns: 1fr } }
</style>
