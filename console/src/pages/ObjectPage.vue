<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Problem } from '../api/client'
import CertificateFacts from '../components/CertificateFacts.vue'
import ExchangeSheet from '../components/ExchangeSheet.vue'
import FactList from '../components/FactList.vue'
import ProblemBox from '../components/ProblemBox.vue'
import SettingsDrawer from '../components/SettingsDrawer.vue'
import ShortLanes from '../components/ShortLanes.vue'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { local, short } from '../composables/words'

const props = defineProps<{ kind: Kind['name']; name: string }>()
const router = useRouter()
const kind = computed(() => kinds[props.kind])
const failed = ref<Problem>()
const editing = ref(false)
const { data: fields } = useLoad(() => kind.value.fields(), () => props.kind)
const { data, problem, load } = useLoad(() => kind.value.show(props.name), () => [props.kind, props.name])

const facts = computed(() => {
  const it = data.value?.it
  if (!it) return []
  return [
    { label: 'Entity ID', value: it.entityId, also: kind.value.also },
    ...(it.endpoints ?? []).map((e) => ({ label: short(e.binding), value: e.location, hint: e.use })),
    ...(it.nameIdFormats ?? []).map((f) => ({ label: 'NameID format', value: f })),
    { label: 'Metadata from', value: it.source, plain: it.source === 'document' },
    { label: 'Added', value: local(it.added), plain: true },
  ]
})
/** The settings that say something, as facts. */
const decided = computed(() =>
  (fields.value ?? []).flatMap((f) => {
    const v = data.value?.it.settings[f.name]
    if (f.name === 'title' || v === '' || v === false || v === undefined) return []
    return [{ label: f.label, value: f.kind === 'switch' ? 'yes' : (f.choices?.find((c) => c.value === v)?.label ?? String(v)), plain: true }]
  }),
)

async function save(settings: Record<string, unknown>) {
  await kind.value.save(data.value!.it, settings)
  await load()
}

async function remove() {
  try {
    await ElMessageBox.confirm('Nobody can pass through it any more, from the next request on. Its history stays.', `Remove ${props.name}?`, { confirmButtonText: 'Remove', cancelButtonText: 'Keep', type: 'warning' })
  } catch {
    return
  }
  try {
    await kind.value.remove(props.name)
    await router.push(`/connect/${props.kind}s`)
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
        <p><code>{{ data.it.name }}</code> · {{ data.it.protocol.toUpperCase() }} {{ kind.name }} · revision {{ data.it.revision }} · <strong :class="data.it.settings.enabled ? 'passed' : 'waiting'">{{ data.it.settings.enabled ? 'enabled' : 'switched off' }}</strong></p>
      </div>
      <div class="tools">
        <a v-if="data.it.open" :href="data.it.open" target="_blank" rel="noopener"><el-button>Try it</el-button></a>
        <router-link :to="{ path: '/watch/traces', query: { [kind.name]: data.it.name } }"><el-button>Traces</el-button></router-link>
        <el-button @click="editing = true">Settings</el-button>
        <el-button type="danger" plain @click="remove">Remove</el-button>
      </div>
    </div>
    <ShortLanes v-if="kind.name === 'application'" :application="data.it.title" :provider="data.it.provider || 'decided by the routing'" :provider-path="data.it.provider ? `/connect/providers/${data.it.provider}` : undefined" :only-own="!!data.it.ownStart" />
    <ExchangeSheet :sheet="data.sheet" :file="`innergate-for-${data.it.name}`" :side="kind.name" />
    <h2>Settings</h2>
    <FactList :facts="decided" />
    <SettingsDrawer v-model="editing" :title="`Settings of ${data.it.title}`" :fields="fields ?? []" :settings="data.it.settings" :save="save" />
    <h2>What the gate knows of the {{ kind.name }}</h2>
    <FactList :facts="facts" />
    <template v-for="(c, i) in data.it.certificates ?? []" :key="i">
      <h2>Certificate of the {{ kind.name }}</h2>
      <CertificateFacts :certificate="c" :file="data.it.name" />
    </template>
  </template>
</template>
