<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Schemas } from '../api/client'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { ago } from '../composables/words'

/** What a mapping is tried on: a recorded sign-in, somebody's next one, or a pasted message. */
const props = defineProps<{ kind: Kind['name']; name: string }>()
const on = defineModel<Partial<Schemas['MappingTrial']>>({ required: true })
const { data: traces } = useLoad(async () => (await take(api.GET('/api/v1/traces',
  { params: { query: { [props.kind]: props.name, limit: 50 } } }))).items ?? [], () => [props.kind, props.name])
const { data: providers } = useLoad(async () => (props.kind === 'application' ? (await kinds.provider.list({ limit: 1000 })).items ?? [] : []), () => props.kind)
const by = ref<'sign-in' | 'person' | 'message'>('sign-in')
const trace = ref('')
const person = ref<number>()
const message = ref('')
const provider = ref('')
watch(traces, (all) => {
  trace.value = all?.find((t) => t.result === 'entered')?.id ?? ''
  if (!trace.value && props.kind === 'application') by.value = 'person'
})
const found = ref<{ number: number; name: string }[]>([])
async function search(text: string) {
  found.value = (await take(api.GET('/api/v1/people', { params: { query: { ...(text ? { search: text } : {}), limit: 20 } } }))).items ?? []
}
watch(by, (b) => { if (b === 'person' && !found.value.length) void search('') }, { immediate: true })
watch([by, trace, person, message, provider], () => {
  on.value = by.value === 'sign-in' ? (trace.value ? { trace: trace.value } : {})
    : by.value === 'person' ? (person.value ? { person: person.value } : {})
      : message.value.trim() && (props.kind === 'provider' || provider.value)
        ? { message: message.value, ...(provider.value ? { provider: provider.value } : {}) } : {}
}, { immediate: true })
const label = computed(() => ({ 'sign-in': 'No sign-in recorded yet', person: 'Search people', message: '' })[by.value])
</script>

<template>
  <el-select v-model="by" aria-label="Tried on what" class="by">
    <el-option value="sign-in" label="a recorded sign-in" /><el-option value="person" label="a person's next sign-in" /><el-option value="message"
        label="a pasted message or token" /></el-select>
  <el-select v-if="by === 'sign-in'" id="trace" v-model="trace" filterable clearable :placeholder="label" aria-label="Recorded sign-in" class="what">
    <el-option v-for="t in traces ?? []" :key="t.id" :value="t.id" :label="`${t.id} · ${t.result} · ${t.name || t.person || 'nobody'} · ${ago(t.started)}`" /></el-select>
  <el-select v-else-if="by === 'person'" v-model="person" filterable remote clearable :remote-method="search" :placeholder="label" aria-label="Person" class="what">
    <el-option v-for="p in found" :key="p.number" :value="p.number" :label="`${p.name} · ${p.number}`" /></el-select>
  <template v-else>
    <el-select v-if="kind === 'application'" v-model="provider" filterable placeholder="Provider that it is of" aria-label="Provider that it is of" class="by">
      <el-option v-for="p in providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select>
    <el-input v-model="message" type="textarea" :rows="4" name="message" class="mono" aria-label="Message or token"
        placeholder="A Response or assertion, an ID token, or what the user-info address said. Nothing of it is verified." /></template>
</template>

<style scoped>
.by { width: 220px }
.what { width: 430px }
.mono :deep(textarea) { font: 12px/1.6 var(--mono) }
@media (max-width: 720px) { .by, .what { width: 100% } }
</style>
