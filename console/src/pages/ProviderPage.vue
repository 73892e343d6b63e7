<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Problem } from '../api/client'
import CertificateFacts from '../components/CertificateFacts.vue'
import ExchangeSheet from '../components/ExchangeSheet.vue'
import FactList from '../components/FactList.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { providerFields } from '../composables/settings'
import SettingsDrawer from '../components/SettingsDrawer.vue'
import { local, short } from '../composables/words'

const props = defineProps<{ name: string }>()
const router = useRouter()
const failed = ref<Problem>()
const params = computed(() => ({ path: { name: props.name } }))
const editing = ref(false)
const { data, problem, load } = useLoad(
  async () => {
    const [it, sheet] = await Promise.all([take(api.GET('/api/v1/providers/{name}', { params: params.value })), take(api.GET('/api/v1/providers/{name}/exchange', { params: params.value }))])
    return { it, sheet }
  },
  () => props.name,
)
const facts = computed(() => {
  const it = data.value?.it
  if (!it) return []
  return [
    { label: 'Entity ID', value: it.entityId, also: ['IdP entity ID', 'issuer'] },
    { label: 'Signed requests', value: it.wantAuthnRequestsSigned ? 'wanted' : 'not wanted', plain: true },
    ...(it.endpoints ?? []).map((e) => ({ label: short(e.binding), value: e.location, hint: e.use })),
    ...(it.nameIdFormats ?? []).map((f) => ({ label: 'NameID format', value: f })),
    { label: 'Metadata from', value: it.source, plain: it.source === 'document' },
    { label: 'Added', value: local(it.added), plain: true },
  ]
})

const fields = computed(() => providerFields)
/** The settings that say something, as facts. */
const decided = computed(() =>
  fields.value.flatMap((f) => {
    const v = (data.value?.it.settings as Record<string, unknown> | undefined)?.[f.name]
    if (f.name === 'title' || v === '' || v === false || v === undefined) return []
    return [{ label: f.label, value: f.kind === 'switch' ? 'yes' : (f.choices?.find((c) => c.value === v)?.label ?? String(v)), plain: true }]
  }),
)

async function save(settings: Record<string, unknown>) {
  const it = data.value!.it
  await take(api.PUT('/api/v1/providers/{name}/settings', { params: params.value, body: { revision: it.revision, settings: settings as typeof it.settings } }))
  await load()
}

async function remove() {
  try {
    await ElMessageBox.confirm('Nobody can pass through it any more, from the next request on. Its history stays.', `Remove ${props.name}?`, { confirmButtonText: 'Remove', cancelButtonText: 'Keep', type: 'warning' })
  } catch {
    return
  }
  try {
    await take(api.DELETE('/api/v1/providers/{name}', { params: params.value }))
    await router.push('/connect/providers')
  } catch (e) {
    failed.value = e as Problem
  }
}
</script>

<template>
  <ProblemBox :problem="problem ?? failed" />
  <template v-if="data">
    <div class="head">
      <div>
        <h1>{{ data.it.title }}</h1>
        <p><code>{{ data.it.name }}</code> · {{ data.it.protocol.toUpperCase() }} provider · revision {{ data.it.revision }} · <strong :class="data.it.settings.enabled ? 'passed' : 'waiting'">{{ data.it.settings.enabled ? 'enabled' : 'switched off' }}</strong></p>
      </div>
      <div class="tools">
        
        <router-link :to="{ path: '/watch/traces', query: { provider: data.it.name } }"><el-button>Traces</el-button></router-link>
        <el-button @click="editing = true">Settings</el-button>
        <el-button type="danger" plain @click="remove">Remove</el-button>
      </div>
    </div>
    
    <ExchangeSheet :sheet="data.sheet" :file="`innergate-for-${data.it.name}`" side="provider" />
    <h2>Settings</h2>
    <FactList :facts="decided" />
    <SettingsDrawer v-model="editing" :title="`Settings of ${data.it.title}`" :fields="fields" :settings="data.it.settings as unknown as Record<string, unknown>" :save="save" />
    <h2>What the gate knows of the provider</h2>
    <FactList :facts="facts" />
    <template v-for="(c, i) in data.it.certificates ?? []" :key="i">
      <h2>Certificate of the provider</h2>
      <CertificateFacts :certificate="c" :file="data.it.name" />
    </template>
  </template>
</template>
