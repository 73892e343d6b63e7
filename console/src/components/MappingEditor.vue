<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Problem, Schemas } from '../api/client'
import { mappingOf, written, type Mapping } from '../composables/rules'
import ProblemBox from './ProblemBox.vue'
import RuleTable from './RuleTable.vue'

/** The rules of a mapping, as a list with a form for each, or as text. */
const props = defineProps<{
  way: 'intake' | 'release'; names: string[]; targets: string[]; set?: boolean
  outcomes?: Schemas['MappedRule'][]; problem?: Problem
}>()
const mapping = defineModel<Mapping>({ required: true })
/** Why the text is no mapping yet, '' if it is one. */
const unread = defineModel<string>('unread', { default: '' })
const asText = ref(false)
const text = ref('')
watch(mapping, (m) => {
  if (!asText.value || !same(m)) text.value = written(m)
}, { immediate: true })
function same(m: Mapping) {
  try {
    return written(mappingOf(text.value.trim() ? JSON.parse(text.value) : {})) === written(m)
  } catch {
    return true // what is being typed stays
  }
}
watch(text, (t) => {
  if (!asText.value) return
  try {
    const m = mappingOf(t.trim() ? JSON.parse(t) : {})
    unread.value = ''
    if (written(m) !== written(mapping.value)) mapping.value = m
  } catch (e) {
    unread.value = (e as Error).message
  }
})
watch(asText, (on) => {
  if (on) text.value = written(mapping.value)
  else unread.value = ''
})

/** What is wrong with which rule, by field. */
const wrong = computed(() => {
  const out: Record<number, Record<string, string>> = {}
  const add = (rule: string, field: string, message: string) => { (out[Number(rule)] ??= {})[field] = message }
  for (const e of props.problem?.errors ?? []) {
    const at = /rules\[(\d+)\]\.(.+)$/.exec(e.field ?? '')
    if (at) add(at[1]!, at[2]!, e.message)
  }
  const said = /rule (\d+), ([^:]+): (.+?)(;? see the description of the API.*)?$/.exec(props.problem?.detail ?? '')
  if (said) add(String(Number(said[1]) - 1), said[2]!, said[3]!)
  return out
})
const elsewhere = computed(() => (Object.keys(wrong.value).length && !asText.value ? undefined : props.problem))
</script>

<template>
  <RuleTable v-if="!asText" v-model="mapping" :way="way" :names="names" :targets="targets" :set="set" :outcomes="outcomes"
      :wrong="wrong">
    <template #tools><slot name="tools" />
      <el-checkbox :model-value="!!mapping.rest" name="rest" :disabled="!mapping.rules.length"
          @update:model-value="(on) => { mapping = { ...mapping, rest: !!on || undefined } }">what no rule reads passes
            unchanged</el-checkbox>
      <el-button size="small" @click="asText = true">As text</el-button></template>
  </RuleTable>
  <template v-else>
    <div class="tools"><label for="rules">Rules in JSON</label><slot name="tools" />
      <el-button size="small" :disabled="!!unread" @click="asText = false">As a list</el-button></div>
    <el-input id="rules" v-model="text" name="rules" type="textarea" :rows="14" class="mono" spellcheck="false"
        placeholder='{"rules": [{"to": {"name": "userName"}, "from": [{"attribute": "uid"}]}]}' />
    <p v-if="unread" role="alert" class="refused">This is no JSON yet: {{ unread }}</p>
  </template>
  <ProblemBox v-if="!unread" :problem="elsewhere" />
</template>

<style scoped>
.mono :deep(textarea) { font: 12px/1.6 var(--mono); white-space: pre-wrap }
p { margin: 8px 0 0 }
</style>
