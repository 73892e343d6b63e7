<script setup lang="ts">
import { ElMessageBox, type TableInstance } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Entity, type Job } from '../api/client'
import FactList from '../components/FactList.vue'
import FindingBox from '../components/FindingBox.vue'
import JobProgress from '../components/JobProgress.vue'
import ProblemBox from '../components/ProblemBox.vue'
import SettingsDrawer from '../components/SettingsDrawer.vue'
import { useAct } from '../composables/act'
import { settingsOf } from '../composables/settings'
import { useLoad } from '../composables/load'
import { uploadForm } from '../composables/upload'
import { days, local } from '../composables/words'

const props = defineProps<{ name: string }>()
const router = useRouter()
const at = computed(() => ({ path: { name: props.name } }))
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/aggregates/{name}', { params: at.value })),
  () => props.name)
const search = ref('')
const role = ref<'' | 'provider' | 'application'>('')
const state = ref<'' | 'usable' | 'broken'>('')
const page = ref(1)
const size = 25
const query = computed(() => ({ search: search.value || undefined, role: role.value || undefined, state: state.value ||
  undefined }))
watch([search, role, state], () => (page.value = 1))
const { data: entities, problem: searching, load: find } = useLoad(
  () => take(api.GET('/api/v1/aggregates/{name}/entities',
    { params: { ...at.value, query: { ...query.value, limit: size, offset: (page.value - 1) * size } } })),
  () => [props.name, query.value, page.value],
)
const table = ref<TableInstance>()
const chosen = ref<Entity[]>([])
const as = ref<'provider' | 'application'>('application')
const phase = ref<'live' | 'paused'>('live')
const job = ref<Job>()
const { failed, act } = useAct()
const editing = ref(false)
const roles = (e: Entity) => (e.roles ?? []).join(', ')
const { data: fields } = useLoad(() => settingsOf('aggregate'))
const settings = computed(() => ({ title: '', address: '', trustKey: '', addressCA: '', notes: '', ...data.value?.settings }))
const facts = computed(() => {
  const a = data.value
  if (!a) return []
  return [
    { label: 'Entities', value: `${a.entities}, ${a.broken} of them cannot be used`, plain: true },
    { label: 'Document', value: a.takenAt ? `${(a.size / 1e6).toFixed(1)} MB, taken in ${local(a.takenAt)}` : 'none yet',
      plain: true },
    { label: 'Signature', value: a.verified ? 'verified with the trust key' : a.signedBy
      ? `by ${a.signedBy}, not vouched for` : a.signatureMethod ? 'there, but not verified' : 'none', plain: true },
    ...(a.trustKeys ?? []).map((k) => ({ label: 'Trust key', value: k.sha256 ?? '', hint: k.subject })),
    ...(a.validUntil ? [{ label: 'Valid until', value: `${local(a.validUntil)}, ${days(a.validUntil)}`, plain: true }]
      : []),
    ...(a.settings.address ? [{ label: 'Address', value: a.settings.address },
      { label: 'Next refresh', value: a.fresh.next ? local(a.fresh.next) : '', plain: true }] : []),
    ...(a.changes ? [{ label: 'Last edition',
      value: `${a.changes.added} came, ${a.changes.removed} went, ${a.changes.changed} changed`, plain: true }] : []),
  ]
})
const refresh = () => act(async () => (job.value = await take(api.POST('/api/v1/aggregates/{name}/refresh',
  { params: at.value }))))
const upload = (e: Event) => act(async () => {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (file) job.value = await uploadForm(`/api/v1/aggregates/${props.name}/upload`, undefined, file, () => undefined)
})
const over = (entities: string[]) => act(async () => {
  job.value = await take(api.POST('/api/v1/aggregates/{name}/take',
    { params: at.value, body: { kind: as.value, phase: phase.value, entities } }))
})
async function matching() {
  const body = { kind: as.value, phase: phase.value, ...(search.value ? { search: search.value } : { all: true }) }
  await act(async () => {
    const p = await take(api.POST('/api/v1/aggregates/{name}/take/preview', { params: at.value, body }))
    const said = `${p.new} ${p.kind}s would be made, phase ${p.phase}.${p.known ? ` ${p.known} are on record already and stay as they are.` : ''} What cannot be taken is reported.`
    try {
      await ElMessageBox.confirm(said, 'Take over all that match?', { confirmButtonText: 'Take over',
        cancelButtonText: 'Leave it' })
    } catch {
      return
    }
    job.value = await take(api.POST('/api/v1/aggregates/{name}/take',
      { params: at.value, body: { ...body, digest: p.digest } }))
  })
}
async function ended() {
  table.value?.clearSelection()
  await Promise.all([load(), find()])
}
const save = async (s: Record<string, unknown>) => {
  await take(api.PATCH('/api/v1/aggregates/{name}/settings', { params: at.value, body: { revision: data.value!.revision,
    settings: s as { title: string } } }))
  await load()
}
async function remove() {
  try {
    await ElMessageBox.confirm('Records that were taken from it stay, and are no longer kept fresh by it.',
      `Remove ${props.name}?`, { confirmButtonText: 'Remove', cancelButtonText: 'Keep', type: 'warning' })
  } catch {
    return
  }
  await act(async () => {
    await take(api.DELETE('/api/v1/aggregates/{name}', { params: at.value }))
    await router.push('/connect/aggregates')
  })
}
</script>

<template>
  <ProblemBox :problem="problem ?? searching ?? failed" />
  <template v-if="data">
    <div class="head">
      <div>
        <h1>{{ data.title }}</h1>
        <p><code>{{ data.name }}</code> · aggregate · <strong
            :class="data.verified ? 'passed' : 'waiting'">{{ data.verified ? 'signature verified' : 'not verified' }}</strong></p>
      </div>
      <div class="tools">
        <el-button v-if="data.settings.address" @click="refresh">Refresh</el-button>
        <label v-else class="upload">Next edition <input type="file" aria-label="Next edition" @change="upload" />
        </label>
        <el-button @click="editing = true">Settings</el-button>
        <el-button type="danger" plain @click="remove">Remove</el-button>
      </div>
    </div>
    <FindingBox v-for="f in data.findings ?? []" :key="f.code" :finding="f" checked />
    <JobProgress v-if="job" :key="job.id" :job="job" @ended="ended" />
    <FactList :facts="facts" />
    <SettingsDrawer v-model="editing" :title="`Settings of ${data.title}`" :fields="fields ?? []" :settings="settings"
        :save="save" />
    <h2>Entities</h2>
    <div class="tools">
      <el-input v-model="search" clearable placeholder="Name or entity ID" aria-label="Search entities" name="search"
          style="width: 320px" />
      <el-radio-group v-model="role" aria-label="Role"><el-radio-button value="">all roles</el-radio-button>
        <el-radio-button value="provider">providers</el-radio-button>
          <el-radio-button value="application">applications</el-radio-button></el-radio-group>
      <el-radio-group v-if="data.broken" v-model="state" aria-label="State">
        <el-radio-button value="">all</el-radio-button>
          <el-radio-button value="broken">broken {{ data.broken }}</el-radio-button></el-radio-group>
      <span class="quiet">{{ entities?.total }} match</span>
    </div>
    <div class="tools">
      <span>Take over as</span>
      <el-select v-model="as" aria-label="Take over as" style="width: 140px"><el-option value="application"
          label="applications" /><el-option value="provider" label="providers" /></el-select>
      <el-select v-model="phase" aria-label="Phase" style="width: 100px"><el-option value="live" label="live" />
        <el-option value="paused" label="paused" /></el-select>
      <el-button type="primary" :disabled="!chosen.length"
          @click="over(chosen.map((e) => e.entityId))">Take over {{ chosen.length }} chosen</el-button>
      <el-button :disabled="!entities?.total" @click="matching">Take over all that match</el-button>
    </div>
    <el-table ref="table" :data="entities?.items ?? []" row-key="entityId" empty-text="Nothing matches."
        @selection-change="(rows: Entity[]) => (chosen = rows)">
      <el-table-column type="selection" width="46" :selectable="(e: Entity) => !e.problem" />
      <el-table-column label="Roles" width="180"><template #default="{ row }">{{ roles(row as Entity) }}</template>
      </el-table-column>
      <el-table-column prop="title" label="Title" min-width="220" />
      <el-table-column label="Entity ID" min-width="320"><template #default="{ row }">
        <code :title="row.entityId">{{ row.entityId }}</code></template></el-table-column>
      <el-table-column label="On record" min-width="200"><template #default="{ row }">
        <span v-if="row.problem" class="refused" :title="row.problem.title">✕ {{ row.problem.code }}</span>
        <router-link v-for="r in row.records ?? []" :key="r"
            :to="`/connect/${r.replace('/', 's/')}`">{{ r.slice(r.indexOf('/') + 1) }} </router-link>
      </template></el-table-column>
    </el-table>
    <el-pagination v-if="entities && entities.total > size" v-model:current-page="page" :page-size="size"
        :total="entities.total" layout="prev, pager, next" />
  </template>
</template>

<style scoped>
.upload { font-size: 14px }
</style>
