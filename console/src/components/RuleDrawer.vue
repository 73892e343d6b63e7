<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { clean, makes, steps, type Rule, type Source, type Step } from '../composables/rules'

/** One rule, in fields. What is wrong with it is said where it is. */
const props = defineProps<{
  rule?: Rule; way: 'intake' | 'release'; names: string[]; targets: string[]; set?: boolean; wrong?: Record<string, string>
}>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ change: [rule: Rule] }>()
type Kind = 'attribute' | 'subject' | 'role' | 'constant' | 'expression'
type Draft = Rule & { from: Source[]; steps: Step[]; default: string[] }
const draft = ref<Draft>({ to: {}, from: [], steps: [], default: [] } as Draft)
let told = ''
watch(open, (o) => {
  if (!o) return
  draft.value = { from: [], steps: [], default: [], ...JSON.parse(JSON.stringify(props.rule ?? { to: {} })) }
  told = JSON.stringify(clean(draft.value))
}, { immediate: true })
watch(draft, (d) => {
  const rule = clean(d)
  if (!open.value || JSON.stringify(rule) === told) return // nothing of it is other
  told = JSON.stringify(rule)
  emit('change', rule)
}, { deep: true })

const kindOf = (s: Source): Kind => (s.subject ? 'subject' : s.role ? 'role' : s.constant !== undefined ? 'constant'
  : s.expression !== undefined ? 'expression' : 'attribute')
const become = (i: number, k: Kind) => {
  draft.value.from[i] = k === 'subject' || k === 'role' ? { [k]: true } : { [k]: '' }
}
const kinds = computed<{ value: Kind; label: string }[]>(() => [{ value: 'attribute', label: 'Attribute' }, { value: 'subject', label: 'Subject' },
  ...(props.way === 'release' ? [{ value: 'role' as Kind, label: 'Role' }] : []),
  { value: 'constant', label: 'Constant' }, { value: 'expression', label: 'Expression (CEL)' }])
const near = (list: string[]) => (query: string, give: (all: { value: string }[]) => void) =>
  give(list.filter((n) => n.toLowerCase().includes(query.toLowerCase())).map((value) => ({ value })))
const table = (s: Step) => computed({
  get: () => (s.table ?? []).map((p) => `${p.from} => ${p.to}`).join('\n'),
  set: (text: string) => {
    s.table = text.split('\n').filter((l) => l.includes('=>')).map((l) => {
      const at = l.indexOf('=>')
      return { from: l.slice(0, at).trim(), to: l.slice(at + 2).trim() }
    })
  },
})
const defaults = computed({ get: () => draft.value.default.join('\n'),
  set: (text: string) => { draft.value.default = text.split('\n').filter(Boolean) } })
const wrongAt = (field: string) => props.wrong?.[field]
const move = (i: number, by: number) => {
  const s = draft.value.steps
  ;[s[i], s[i + by]] = [s[i + by]!, s[i]!]
}
</script>

<template>
  <el-drawer v-model="open" :title="`Rule for ${makes(draft)}`" size="560px">
    <el-form label-position="top" @submit.prevent>
      <fieldset>
        <legend>To</legend>
        <el-checkbox v-model="draft.to.subject" name="subject"
            @change="(on) => { if (on) [draft.to.name, draft.mandatory] = ['', way === 'intake' || draft.mandatory] }">{{ way === 'release' ?
              'the subject (NameID)' : 'the subject: what people are recognised by' }}</el-checkbox>
        <el-form-item v-if="!draft.to.subject" label="Attribute or claim" :error="wrongAt('to.name') ?? wrongAt('to')">
          <el-autocomplete v-model="draft.to.name" name="to" :fetch-suggestions="near(targets)" clearable />
        </el-form-item>
        <div class="row">
          <el-form-item v-if="way === 'release'" label="NameFormat"><el-input v-model="draft.to.nameFormat" name="nameFormat" />
          </el-form-item>
          <el-form-item v-if="way === 'release' && !draft.to.subject" label="FriendlyName">
            <el-input v-model="draft.to.friendlyName" name="friendlyName" /></el-form-item>
          <el-form-item v-if="!draft.to.subject" label="Type" :error="wrongAt('to.type')">
            <el-select v-model="draft.to.type" clearable placeholder="Any" aria-label="Type">
              <el-option v-for="t in ['text', 'number', 'boolean', 'time', 'structure']" :key="t" :value="t" :label="t" />
            </el-select></el-form-item>
        </div>
        <el-checkbox v-if="set" v-model="draft.omit" name="omit">take away the set's rule for it</el-checkbox>
      </fieldset>
      <template v-if="!draft.omit">
        <fieldset>
          <legend>From</legend>
          <p v-if="wrongAt('from')" class="refused" role="alert">{{ wrongAt('from') }}</p>
          <div v-for="(s, i) in draft.from" :key="i" class="line">
            <el-select :model-value="kindOf(s)" class="kind" :aria-label="`Kind of source ${i + 1}`"
                @update:model-value="(k: Kind) => become(i, k)">
              <el-option v-for="k in kinds" :key="k.value" :value="k.value" :label="k.label" /></el-select>
            <el-autocomplete v-if="kindOf(s) === 'attribute'" v-model="s.attribute" :fetch-suggestions="near(names)"
                :aria-label="`Source ${i + 1}`" placeholder="Name, friendly name, or path of a claim" />
            <el-input v-else-if="kindOf(s) === 'constant'" v-model="s.constant" :aria-label="`Source ${i + 1}`" />
            <el-input v-else-if="kindOf(s) === 'expression'" v-model="s.expression" type="textarea" autosize class="mono"
                :aria-label="`Source ${i + 1}`" placeholder="attributes.sn[0] + ', ' + attributes.givenName[0]" />
            <span v-else-if="kindOf(s) === 'role'" class="quiet fill">the values of the roles that they enter with</span>
            <span v-else class="quiet fill">NameID or sub</span>
            <el-button text :aria-label="`Remove source ${i + 1}`" @click="draft.from.splice(i, 1)">✕</el-button>
            <p v-if="wrongAt(`from[${i}]`) ?? wrongAt(`from[${i}].expression`)" class="refused" role="alert">
              {{ wrongAt(`from[${i}]`) ?? wrongAt(`from[${i}].expression`) }}</p>
          </div>
          <el-button size="small" @click="draft.from.push({ attribute: '' })">Add a source</el-button>
          <el-checkbox v-if="draft.from.length > 1" v-model="draft.all" name="all">the values of all, not of the first that
            has some</el-checkbox>
          <el-form-item label="When (CEL, empty for always)" :error="wrongAt('when')">
            <el-input v-model="draft.when" name="when" class="mono"
                placeholder="attributes.groups.exists(g, g.endsWith('-leads'))" /></el-form-item>
        </fieldset>
        <fieldset>
          <legend>Changed by</legend>
          <div v-for="(s, i) in draft.steps" :key="i" class="line">
            <el-select v-model="s.do" class="kind" filterable :aria-label="`Step ${i + 1}`">
              <el-option v-for="(d, name) in steps" :key="name" :value="name" :label="name"><span>{{ name }}</span><span
                  class="quiet">: {{ d.words }}</span></el-option></el-select>
            <div class="fill">
              <el-input v-if="steps[s.do]?.text" v-model="s.text" :placeholder="steps[s.do]!.text" class="mono"
                  :aria-label="`${steps[s.do]!.text} of step ${i + 1}`" />
              <el-input v-if="steps[s.do]?.with" v-model="s.with" :placeholder="steps[s.do]!.with" class="mono"
                  :aria-label="`What step ${i + 1} puts in place`" />
              <template v-if="steps[s.do]?.table">
                <el-input v-model="table(s).value" type="textarea" :rows="4" class="mono" placeholder="from => to, a line each"
                    :aria-label="`Table of step ${i + 1}`" />
                <el-input v-model="s.else" placeholder="Everything else becomes; empty leaves it out"
                    :aria-label="`Else of step ${i + 1}`" />
              </template>
              <span v-if="steps[s.do] && !steps[s.do]!.text && !steps[s.do]!.table" class="quiet">{{ steps[s.do]!.words }}</span>
            </div>
            <el-button text :disabled="i === 0" :aria-label="`Step ${i + 1} earlier`" @click="move(i, -1)">↑</el-button>
            <el-button text :aria-label="`Remove step ${i + 1}`" @click="draft.steps.splice(i, 1)">✕</el-button>
            <template v-for="part in ['do', 'text', 'with', 'table']" :key="part">
              <p v-if="wrongAt(`steps[${i}].${part}`)" class="refused" role="alert">{{ wrongAt(`steps[${i}].${part}`) }}</p>
            </template>
          </div>
          <el-button size="small" @click="draft.steps.push({ do: 'trim' })">Add a step</el-button>
        </fieldset>
        <fieldset>
          <legend>Otherwise</legend>
          <el-form-item label="Default, a line each, where nothing comes of it" :error="wrongAt('default')">
            <el-input v-model="defaults" name="default" type="textarea" autosize /></el-form-item>
          <el-checkbox v-model="draft.mandatory" name="mandatory">mandatory: without a value the sign-in ends</el-checkbox>
          <p v-if="wrongAt('mandatory')" class="refused" role="alert">{{ wrongAt('mandatory') }}</p>
          <el-checkbox v-if="way === 'intake'" :model-value="draft.keep === 'person'" name="keep"
              @update:model-value="(on) => { draft.keep = on ? 'person' : '' }">kept with the person, not for the session
                only</el-checkbox>
        </fieldset>
      </template>
      <el-form-item label="Note: why"><el-input v-model="draft.note" name="note" /></el-form-item>
    </el-form>
    <template #footer><slot /> <el-button type="primary" @click="open = false">Done</el-button></template>
  </el-drawer>
</template>

<style scoped>
fieldset { border: 0; border-top: 1px solid var(--line); margin: 0 0 12px; padding: 8px 0 0 }
legend { font-weight: 600; padding-right: 8px }
.row { display: grid; grid-template-columns: repeat(auto-fit, minmax(120px, 1fr)); gap: 12px }
.line { display: flex; flex-wrap: wrap; gap: 8px; margin-bottom: 8px; align-items: flex-start }
.line > .el-autocomplete, .line > .el-input, .line > .el-textarea, .fill { flex: 1; width: auto; min-width: 180px }
.fill { line-height: 32px }
.fill > * + * { margin-top: 4px }
.line p { width: 100%; margin: 0 }
.kind { width: 150px }
.line .el-button { padding: 8px; margin: 0 }
.el-form-item { margin-bottom: 12px }
.el-checkbox { margin-left: 8px }
fieldset > .el-checkbox:first-of-type { margin-left: 0 }
.mono :deep(textarea), .mono :deep(input) { font: 12px/1.6 var(--mono) }
</style>
