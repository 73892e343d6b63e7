<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { api, take, type Mapped, type MappedValues, type Problem } from '../api/client'
import FindingBox from '../components/FindingBox.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { ago } from '../composables/words'

const props = defineProps<{ kind: Kind['name']; name: string }>()
const kind = computed(() => kinds[props.kind])
const setting = computed(() => (props.kind === 'provider' ? 'intakeMapping' : 'releaseMapping'))
const at = () => [props.kind, props.name]
const { data, problem, load } = useLoad(async () => (await kind.value.show(props.name)).it, at)
const { data: traces } = useLoad(async () => (await take(api.GET('/api/v1/traces',
  { params: { query: { [props.kind]: props.name, limit: 50 } } }))).items ?? [], at)
const trace = ref('')
watch(traces, (all) => { trace.value = all?.find((t) => t.result === 'entered')?.id ?? '' })

/** The rules as text: one on each line, where that does. */
const text = ref('')
const order = ['to', 'from', 'all', 'steps', 'default', 'mandatory', 'note']
const saved = computed(() => written(data.value?.settings[setting.value]))
watch(saved, (s) => { text.value = s })
type Rules = { rules?: Record<string, unknown>[]; rest?: boolean }
function written(m: unknown) {
  const { rules = [], rest } = (m ?? {}) as Rules
  if (!rules.length) return ''
  const line = (rule: Record<string, unknown>) => '  {'
    + [...new Set([...order, ...Object.keys(rule)])].filter((k) => k in rule)
      .map((k) => `${JSON.stringify(k)}: ${JSON.stringify(rule[k])}`).join(', ') + '}'
  return `{"rules": [\n${rules.map(line).join(',\n')}\n]${rest ? ', "rest": true' : ''}}`
}
const read = computed(() => {
  try {
    return { mapping: text.value.trim() ? JSON.parse(text.value) as object : {} }
  } catch (e) {
    return { wrong: (e as Error).message }
  }
})

/** What comes of it, a moment after it was typed. */
const tried = shallowRef<Mapped>()
const refused = ref<Problem>()
let turn = 0
async function attempt() {
  const mine = ++turn
  await new Promise((r) => setTimeout(r, 250))
  if (mine !== turn || !read.value.mapping || !data.value) return
  try {
    const got = await take(api.POST('/api/v1/mapping-trials', { body: { [props.kind]: props.name,
      [setting.value]: read.value.mapping, ...(trace.value ? { trace: trace.value } : {}) } }))
    if (mine === turn) [tried.value, refused.value] = [got, undefined]
  } catch (e) {
    if (mine === turn) refused.value = e as Problem
  }
}
watch([text, trace, data], attempt, { immediate: true })
const shown = (values: unknown[] | null) =>
  (values ?? []).map((v) => (typeof v === 'string' ? v : JSON.stringify(v)))
const rules = computed(() => (props.kind === 'provider' ? tried.value?.intake : tried.value?.release) ?? [])
const stages = computed(() => {
  const t = tried.value
  if (!t) return []
  return [{ title: 'Received', of: t.provider, list: t.received, name: t.subject },
    { title: 'Profile', of: '', list: t.profile, name: '' },
    ...(t.application && !t.refused ? [{ title: 'Told', of: t.application, list: t.released, name: t.name }] : []),
  ] as { title: string; of?: string; list: MappedValues[]; name?: string }[]
})

const why = ref('')
const { busy, failed, act } = useAct({ done: load })
const save = () => act(async () => {
  await kind.value.save(data.value!, { [setting.value]: read.value.mapping }, why.value)
  why.value = ''
})
</script>

<template>
  <div class="head">
    <div>
      <h1>{{ kind.name === 'provider' ? 'Intake' : 'Release' }} mapping of {{ data?.title ?? name }}</h1>
      <p v-if="kind.name === 'provider'">What becomes of the attributes or claims of
        <router-link :to="`/connect/providers/${name}`">{{ name }}</router-link> on their way into the profile. Without
          rules everything is taken over unchanged; with rules, what none reads is not kept.</p>
      <p v-else>What <router-link :to="`/connect/applications/${name}`">{{ name }}</router-link> is told of the profile.
        Without rules it is told everything, unchanged; with rules, what they make.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="both">
    <form class="sheet" @submit.prevent="save">
      <label for="rules">Rules in JSON, with <code>to</code>, <code>from</code>, <code>steps</code>,
        <code>default</code>, <code>mandatory</code>, <code>note</code></label>
      <el-input id="rules" v-model="text" name="rules" type="textarea" :rows="14" class="mono" spellcheck="false"
          placeholder='{"rules": [{"to": {"name": "userName"}, "from": [{"attribute": "uid"}]}]}' />
      <p v-if="read.wrong" role="alert" class="wrong">This is no JSON yet: {{ read.wrong }}</p>
      <ProblemBox v-else :problem="refused" />
      <div class="save">
        <el-input v-model="why" name="why" placeholder="Why (optional, kept in the history)" aria-label="Why" />
        <el-button type="primary" native-type="submit" :loading="busy"
            :disabled="!!read.wrong || !!refused || text === saved">Save</el-button>
      </div>
    </form>
    <section class="sheet" aria-label="What each rule does">
      <label for="trace">Tried on the sign-in</label>
      <el-select id="trace" v-model="trace" filterable clearable placeholder="None recorded yet">
        <el-option v-for="t in traces ?? []" :key="t.id" :value="t.id"
            :label="`${t.id} · ${t.result} · ${t.person || 'nobody'} · ${ago(t.started)}`" />
      </el-select>
      <ol v-if="rules.length">
        <li v-for="r in rules" :key="r.rule" :class="r.outcome.replace(' ', '-')">
          <span class="sign">{{ r.rule }} {{ r.outcome }}</span>
          <span>{{ r.text }}<template v-if="r.made?.length">: <code>{{ shown(r.made).join(', ') }}</code></template>
            <small v-for="w in r.without ?? []" :key="w">{{ w }}</small></span>
        </li>
      </ol>
      <p v-else class="quiet">No rules: everything passes unchanged.</p>
      <FindingBox v-if="tried?.refused" :finding="tried.refused" />
    </section>
  </div>
  <div class="stages">
    <section v-for="s in stages" :key="s.title" class="sheet" :aria-label="s.title">
      <h2>{{ s.title }}<template v-if="s.of"> · {{ s.of }}</template></h2>
      <p v-if="s.name" class="name">{{ s.title === 'Told' ? 'as' : 'subject' }} <code>{{ s.name }}</code></p>
      <dl>
        <template v-for="a in s.list" :key="a.name + a.nameFormat">
          <dt :title="a.name">{{ a.friendlyName || a.name }}</dt>
          <dd v-for="(v, i) in shown(a.values)" :key="i">{{ v }}</dd>
        </template>
      </dl>
      <p v-if="!s.list.length" class="quiet">Nothing.</p>
    </section>
  </div>
</template>

<style scoped>
.both { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 16px; align-items: start }
.both > * { padding: 16px }
label { display: block; margin-bottom: 8px }
.mono :deep(textarea) { font: 12px/1.6 var(--mono); white-space: pre-wrap }
.save { display: flex; gap: 12px; margin-top: 12px }
.wrong { color: var(--refused); margin: 8px 0 0 }
ol { list-style: none; margin: 12px 0 0; padding: 0; max-height: 300px; overflow-y: auto }
ol li { display: grid; grid-template-columns: 84px minmax(0, 1fr); padding: 4px 0; border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere }
.sign { color: var(--quiet) }
.applied .sign { color: var(--passed) }
.emptied .sign, .absent .sign { color: var(--waiting) }
.too-much .sign { color: var(--refused) }
small { display: block; color: var(--quiet) }
.stages { display: grid; grid-template-columns: repeat(auto-fit, minmax(260px, 1fr)); gap: 16px; margin-top: 16px;
  align-items: start }
.stages section { padding: 12px 16px; min-width: 0 }
.stages h2 { margin: 0 0 4px; font-size: 15px }
.name { margin: 0 0 4px }
dl { display: grid; grid-template-columns: minmax(90px, 2fr) 3fr; margin: 0; font-size: 13px }
dt { grid-column: 1; color: var(--quiet); overflow-wrap: anywhere }
dd { grid-column: 2; margin: 0; overflow-wrap: anywhere }
@media (max-width: 1000px) { .both { grid-template-columns: minmax(0, 1fr) } }
</style>
