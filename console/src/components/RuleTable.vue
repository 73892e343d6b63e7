<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import type { Schemas } from '../api/client'
import { makes, sentence, shown, type Mapping, type Rule } from '../composables/rules'
import RuleDrawer from './RuleDrawer.vue'

/** The rules of a mapping, one line each, with what each made in the trial. */
const props = defineProps<{
  way: 'intake' | 'release'; names: string[]; targets: string[]; set?: boolean
  outcomes?: Schemas['MappedRule'][]; wrong?: Record<number, Record<string, string>>
}>()
const mapping = defineModel<Mapping>({ required: true })
const search = ref('')
const editing = ref(-1)
const open = ref(false)
const lines = computed(() => mapping.value.rules.map((r, i) => ({ r, i, makes: makes(r), of: sentence(r),
  // The rules of a set stand before: what was made is found by its target.
  out: props.outcomes?.find((o) => o.to === makes(r)) }))
  .filter((l) => !search.value || `${l.makes} ${l.of} ${l.r.note ?? ''} ${l.out?.outcome ?? ''}`.toLowerCase()
    .includes(search.value.toLowerCase())))
const put = (rules: Rule[]) => { mapping.value = { ...mapping.value, rules } }
function edit(i: number) {
  editing.value = i
  open.value = true
}
async function add() {
  const at = mapping.value.rules.length
  put([...mapping.value.rules, { to: {}, from: [{ attribute: '' }] }])
  await nextTick() // until then the rules are those of before
  edit(at)
}
const change = (r: Rule) => put(mapping.value.rules.map((old, i) => (i === editing.value ? r : old)))
const remove = (i: number) => put(mapping.value.rules.filter((_, k) => k !== i))
function move(i: number, by: number) {
  const rules = [...mapping.value.rules]
  ;[rules[i], rules[i + by]] = [rules[i + by]!, rules[i]!]
  put(rules)
}
const tone: Record<string, string> = { applied: 'passed', default: 'note', 'too much': 'refused' }
const signs: Record<string, string> = { applied: '●', default: '◐', absent: '○', emptied: '○', 'too much': '✕', unmet: '–' }
defineExpose({ add })
</script>

<template>
  <div class="tools">
    <el-input v-if="mapping.rules.length > 8" v-model="search" placeholder="Search the rules" aria-label="Search the rules"
        clearable class="search" />
    <span class="quiet">{{ mapping.rules.length }} {{ mapping.rules.length === 1 ? 'rule' : 'rules' }}</span>
    <el-button size="small" @click="add">Add a rule</el-button>
    <slot name="tools" />
  </div>
  <div v-if="lines.length" class="scroll" tabindex="0" aria-label="Rules">
  <table>
    <thead><tr><th scope="col">#</th><th scope="col">To</th><th scope="col">From</th><th scope="col">In the trial</th>
      <th scope="col"><span class="hidden">Actions</span></th></tr></thead>
    <tbody>
      <tr v-for="l in lines" :key="l.i" :class="{ bad: wrong?.[l.i] }">
        <td class="quiet">{{ l.i + 1 }}</td>
        <td><button type="button" class="link" @click="edit(l.i)">{{ l.makes }}</button></td>
        <td class="of" :title="l.of">{{ l.of }}<small v-if="l.r.note" :title="l.r.note">{{ l.r.note }}</small>
          <small v-for="(message, field) in wrong?.[l.i]" :key="field" class="refused">{{ field }}: {{ message }}</small></td>
        <td class="came"><template v-if="l.out"><span :class="tone[l.out.outcome] ?? 'waiting'"
            :title="[l.out.text, ...(l.out.without ?? [])].join('\n')">{{ signs[l.out.outcome] }} <template
              v-if="l.out.made?.length"><code>{{ shown(l.out.made).join(', ') }}</code></template><template
              v-else>{{ l.out.outcome }}</template></span></template></td>
        <td class="acts">
          <el-button text size="small" :disabled="l.i === 0" :aria-label="`Rule ${l.i + 1} earlier`" @click="move(l.i, -1)">↑</el-button>
          <el-button text size="small" :aria-label="`Remove rule ${l.i + 1}`" @click="remove(l.i)">✕</el-button></td>
      </tr>
    </tbody>
  </table>
  </div>
  <p v-else-if="search" class="quiet">No rule matches.</p>
  <RuleDrawer v-model="open" :rule="mapping.rules[editing]" :way="way" :names="names" :targets="targets" :set="set"
      :wrong="wrong?.[editing]" @change="change">
    <span v-if="lines.find((l) => l.i === editing)?.out" class="quiet">{{ lines.find((l) => l.i === editing)!.out!.text }}:
      <code>{{ shown(lines.find((l) => l.i === editing)!.out!.made).join(', ') || 'nothing' }}</code></span>
  </RuleDrawer>
</template>

<style scoped>
.search { width: 240px }
.scroll { overflow: auto; max-height: 460px; border: 1px solid var(--line); border-radius: 4px }
table { border-collapse: collapse; width: 100%; table-layout: fixed; background: var(--sheet) }
th { position: sticky; top: 0; background: var(--sheet); color: var(--quiet); font-weight: 600; text-align: left; z-index: 1 }
th, td { padding: 3px 8px; border-bottom: 1px solid var(--line); vertical-align: top; overflow: hidden; text-overflow: ellipsis }
td { white-space: nowrap }
th:nth-child(1) { width: 36px } th:nth-child(2) { width: 24% } th:nth-child(4) { width: 26% } th:nth-child(5) { width: 78px }
small { display: block; color: var(--quiet); overflow: hidden; text-overflow: ellipsis }
small.refused { white-space: normal }
.bad { border-left: 4px solid var(--refused) }
.link { font: inherit; color: var(--gate); background: none; border: 0; padding: 0; cursor: pointer; max-width: 100%;
  overflow: hidden; text-overflow: ellipsis; text-decoration: underline }
.acts { text-align: right }
.acts .el-button { padding: 2px 6px; margin: 0 }
.hidden { position: absolute; left: -9999px }
</style>
