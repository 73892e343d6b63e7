<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Schemas } from '../api/client'
import FindingBox from './FindingBox.vue'
import ProblemBox from './ProblemBox.vue'
import { useAct } from '../composables/act'
import { local, saveFile } from '../composables/words'

/** Takes a sign-in, a rehearsal or a connection along as one file. What is shown here is what is in it. */
const props = defineProps<{ kind: 'trace' | 'rehearsal' | 'connection'; name: string; run?: number }>()
const open = ref(false)
const whole = ref(false)
const seen = ref<Schemas['BundlePreview']>()
const { busy, failed, act } = useAct()
const ask = computed(() => ({ path: { kind: props.kind, name: props.name }, query: { run: props.run, whole: whole.value || undefined } }))
const look = () => act(async () => { seen.value = await take(api.GET('/api/v1/bundles/{kind}/{name}', { params: ask.value })) })
watch([open, whole], () => { if (open.value) void look() })
const save = () => act(async () => {
  const octets = await take(api.GET('/api/v1/bundles/{kind}/{name}/file', { params: { path: ask.value.path,
    query: { ...ask.value.query, digest: seen.value!.digest } }, parseAs: 'arrayBuffer' }))
  saveFile(seen.value!.file, new Uint8Array(octets as unknown as ArrayBuffer), 'application/zip')
})
type Part = { title: string; says: string; holds: unknown }
const parts = computed<Part[]>(() => {
  const b = seen.value?.bundle
  if (!b) return []
  return [
    ...(b.rehearsal ? [{ title: `Rehearsal ${b.rehearsal.name}`, says: b.rehearsal.run ? `run ${b.rehearsal.run}: ${b.rehearsal.verdict?.state ?? ''}` : 'never run', holds: b.rehearsal }] : []),
    ...(b.signIns ?? []).map((s) => ({ title: `Sign-in ${s.reference}`, says: `${s.result}, ${s.steps?.length ?? 0} steps, ${local(s.started)}`, holds: s })),
    ...(b.records ?? []).map((r) => ({ title: r.title, says: `${r.kind} ${r.name}, ${r.values?.length ?? 0} values`, holds: r })),
    ...(b.timeLine?.length ? [{ title: 'Time line', says: `${b.timeLine.length} changes`, holds: b.timeLine }] : []),
  ]
})
const lines = (v: unknown) => JSON.stringify(v, null, 2).replaceAll('\\n', '\n').replaceAll('\\"', '"')
</script>

<template>
  <el-button @click="open = true">Take it along</el-button>
  <el-drawer v-model="open" :title="`Take along: ${seen?.bundle.title ?? name}`" size="min(760px, 100%)">
    <p class="quiet">One file for somebody else: JSON, a page that opens offline, and each message. It has no key, secret, password or token that could be used. All that is in it stands here.</p>
    <ProblemBox :problem="failed" />
    <p><el-switch v-model="whole" aria-label="With values of people" /> With values of people <span class="quiet">{{ whole ? 'Names, addresses and attributes are in it: handle it so.' : 'They are masked, equal ones alike.' }}</span></p>
    <template v-if="seen">
      <FindingBox v-for="f in seen.bundle.findings ?? []" :key="f.code" :finding="f" />
      <details v-for="p in parts" :key="p.title" class="sheet"><summary><strong>{{ p.title }}</strong> <span class="quiet">{{ p.says }}</span></summary><pre>{{ lines(p.holds) }}</pre></details>
    </template>
    <template #footer><span class="quiet digest">Digest <code>{{ seen?.digest }}</code></span>
      <el-button type="primary" :disabled="!seen" :loading="busy" @click="save">Save the file</el-button></template>
  </el-drawer>
</template>

<style scoped>
details { padding: 8px 12px; margin: 8px 0 }
summary { cursor: pointer }
pre { white-space: pre-wrap; overflow-wrap: anywhere; font-size: 12px; margin: 8px 0 0 }
.digest { margin-right: 16px }
</style>
