<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import ConsequenceNote from './ConsequenceNote.vue'
import ProblemBox from './ProblemBox.vue'
import { useAct } from '../composables/act'
import type { Schemas } from '../api/client'
import type { Setting } from '../composables/settings'

type Settings = Record<string, unknown>
const props = defineProps<{
  title: string; fields: Setting[]; settings: Settings; naming?: boolean
  save: (settings: Settings, why: string, name: string) => Promise<void>
  record?: { kind: 'provider' | 'application'; name: string }
  /** Asks what settings that are typed would do to people, of what is no record. */
  weigh?: (settings: Settings, name: string) => Promise<Schemas['Consequence'] | undefined>
}>()
const open = defineModel<boolean>({ required: true })
const draft = ref<Record<string, unknown>>({})
const { busy, failed: problem, act } = useAct()
const why = ref('')
const name = ref('')
watch(open, (o) => {
  if (!o) return
  name.value = ''
  draft.value = { ...props.settings }
  why.value = ''
  problem.value = undefined
}, { immediate: true })

const shown = (f: Setting, v: unknown) => (f.type === 'switch' ? (v ? 'yes' : 'no')
  : Array.isArray(v) ? v.join(', ') || 'nothing' : f.choices?.find((c) => c.value === v)?.label ?? String(v || 'nothing'))
const trimmed = (v: unknown) => (Array.isArray(v) ? v.map((l) => String(l).trim()).filter(Boolean) : v)
const long = (f: Setting) => ['lines', 'certificate'].includes(f.type) || ['list', 'pairs'].includes(f.type) && (f.most ?? 0) > 2000
/** What it does, unless that is what its values say. */
const hint = (f: Setting) => (f.text === f.label || f.choices?.some((c) => c.label.startsWith(`${c.value}:`)) ? '' : f.text)
const groups = computed(() => [...new Set(props.fields.map((f) => f.group))].map((name) => ({ name, fields: props.fields.filter((f) => f.group === name) })))
const same = (a: unknown, b: unknown) => a === b || Array.isArray(a) && JSON.stringify(a) === JSON.stringify(b)
const changes = computed(() => props.fields.filter((f) => !same(draft.value[f.name], props.settings[f.name]))
  .map((f) => ({ label: f.label, from: shown(f, props.settings[f.name]), to: shown(f, draft.value[f.name]) })))
const proposed = () => {
  const set = Object.fromEntries(props.fields.filter((f) => !same(draft.value[f.name], props.settings[f.name])).map((f) => [f.name, draft.value[f.name]]))
  return open.value && props.record && Object.keys(set).length ? { changes: [{ ...props.record, settings: set }] } : undefined
}
const typed = () => (open.value && props.weigh && changes.value.length && (name.value || !props.naming)
  ? { name: name.value, settings: Object.fromEntries(Object.entries(draft.value).map(([k, v]) => [k, trimmed(v)])) } : undefined)
const weighed = (c: unknown) => { const t = c as { name: string; settings: Settings }; return props.weigh!(t.settings, t.name) }
const wrong = (name: string) => problem.value?.errors?.find((e) => e.field === name ||
  e.field === `settings.${name}`)?.message ?? ''

const submit = () => act(async () => {
  await props.save(Object.fromEntries(Object.entries(draft.value).map(([k, v]) => [k, trimmed(v)])), why.value, name.value)
  open.value = false
})
</script>

<template>
  <el-drawer v-model="open" :title="title" size="520px">
    <ProblemBox :problem="problem" />
    <el-form label-position="top" @submit.prevent="submit">
      <el-form-item v-if="naming" label="Short name" :error="wrong('name')"><el-input v-model="name" name="name" placeholder="a-z, 0-9 and hyphen; it never changes" /></el-form-item>
      <fieldset v-for="g in groups" :key="g.name">
      <legend>{{ g.name }}</legend>
      <el-form-item v-for="f in g.fields" :key="f.name" :label="f.type === 'switch' ? undefined : f.label"
          :error="wrong(f.name)">
        <el-checkbox v-if="f.type === 'switch'" v-model="draft[f.name] as boolean"
            :name="f.name">{{ f.label }}</el-checkbox>
        <el-select v-else-if="f.type === 'values' && f.refers" v-model="draft[f.name] as string[]" :aria-label="f.label" multiple filterable>
          <el-option v-for="c in f.choices" :key="c.value" :label="c.label" :value="c.value" />
        </el-select>
        <el-input v-else-if="f.type === 'values'" :model-value="(draft[f.name] as string[]).join('\n')" :name="f.name" type="textarea" :rows="3"
            placeholder="one a line" @update:model-value="(text: string) => (draft[f.name] = text.split('\n'))" />
        <el-select v-else-if="f.choices" filterable v-model="draft[f.name] as string" :aria-label="f.label"
            :empty-values="[null, undefined]">
          <el-option v-for="c in f.choices" :key="c.value" :label="c.label" :value="c.value" />
        </el-select>
        <el-input v-else v-model="draft[f.name] as string" :name="f.name"
            :type="long(f) ? 'textarea' : 'text'" :rows="3" :placeholder="f.default" />
        <div v-if="hint(f)" class="quiet hint">{{ hint(f) }}</div>
      </el-form-item>
      </fieldset>
    </el-form>
    <template #footer>
      <section v-if="changes.length" class="sheet changes" aria-live="polite">
        <p><strong>What will change</strong>, from the next request on</p>
        <ul><li v-for="c in changes" :key="c.label">{{ c.label }}: <del>{{ c.from }}</del> → <ins>{{ c.to }}</ins></li>
        </ul>
        <ConsequenceNote v-if="record" :change="proposed" />
        <ConsequenceNote v-else-if="weigh" :change="typed" :ask="weighed" />
      </section>
      <el-input v-if="open && changes.length" v-model="why" name="why"
          placeholder="Why (optional, kept in the history)" aria-label="Why" class="why" />
      <el-button type="primary" :loading="busy"  :disabled="!changes.length || naming && !name" @click="submit">Save</el-button>
      <el-button @click="open = false">Leave it</el-button>
    </template>
  </el-drawer>
</template>

<style scoped>
.why { margin-bottom: 12px }
.hint { width: 100%; font-size: 12px; line-height: 1.5 }
.changes { text-align: left; max-height: 30vh; overflow: auto; padding: 12px 16px; margin-bottom: 16px; border-left: 4px solid var(--waiting) }
.changes p { margin: 0 }
.changes ul { margin: 4px 0 0; padding-left: 18px }
del { color: var(--quiet) }
ins { text-decoration: none; font-weight: 600 }
.el-form-item { margin-bottom: 14px }
fieldset { border: 0; margin: 0 0 8px; padding: 0; min-width: 0 }
legend { width: 100%; font-size: 16px; font-weight: 600; padding: 0 0 4px; margin: 8px 0 12px; border-bottom: 1px solid var(--line) }
</style>
