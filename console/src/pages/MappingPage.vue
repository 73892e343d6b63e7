<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type MappedValues, type Schemas } from '../api/client'
import FindingBox from '../components/FindingBox.vue'
import MappingEditor from '../components/MappingEditor.vue'
import ProblemBox from '../components/ProblemBox.vue'
import ReevaluationPanel from '../components/ReevaluationPanel.vue'
import SaveChange from '../components/SaveChange.vue'
import ToldNotes from '../components/ToldNotes.vue'
import TriedOn from '../components/TriedOn.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { mappingOf, shown, written, type Mapping } from '../composables/rules'
import { useTrial } from '../composables/trial'

const props = defineProps<{ kind: Kind['name']; name: string }>()
const kind = computed(() => kinds[props.kind])
const way = computed(() => (props.kind === 'provider' ? 'intake' : 'release'))
const setting = computed(() => `${way.value}Mapping` as 'intakeMapping' | 'releaseMapping')
const setSetting = computed(() => `${way.value}Set`)
const at = () => [props.kind, props.name]
const { data, problem, load } = useLoad(async () => (await kind.value.show(props.name)).it, at)
const { data: sets, load: loadSets } = useLoad(async () => (await take(api.GET('/api/v1/sets'))).items ?? [])
const { data: proposal } = useLoad(() => take(props.kind === 'provider'
  ? api.GET('/api/v1/providers/{name}/mapping-proposal', { params: { path: { name: props.name } } })
  : api.GET('/api/v1/applications/{name}/mapping-proposal', { params: { path: { name: props.name } } })), at)
const on = ref<Partial<Schemas['MappingTrial']>>({})

const mapping = ref<Mapping>({ rules: [] })
const set = ref('')
const unread = ref('')
const saved = computed(() => mappingOf(data.value?.settings[setting.value]))
watch(data, (d) => {
  mapping.value = mappingOf(JSON.parse(JSON.stringify(saved.value)))
  set.value = String(d?.settings[setSetting.value] ?? '')
})
const changed = computed(() => written(mapping.value) !== written(saved.value)
  || set.value !== String(data.value?.settings[setSetting.value] ?? ''))
const shared = computed(() => sets.value?.find((s) => s.name === set.value))
const fitting = computed(() => (sets.value ?? []).filter((s) => s.way === way.value))

/** What comes of it, a moment after it was typed. */
const { tried, refused } = useTrial(async () => {
  if (unread.value || !data.value) return undefined
  return { [props.kind]: props.name, [setting.value]: mapping.value, [setSetting.value]: set.value, ...on.value } as Schemas['MappingTrial']
}, () => [mapping.value, set.value, on.value, data.value, unread.value])

const outcomes = computed(() => (props.kind === 'provider' ? tried.value?.intake : tried.value?.release) ?? [])
const inherited = computed(() => outcomes.value.filter((o) =>
  !mapping.value.rules.some((r) => (r.to.subject ? 'the subject' : r.to.name) === o.to)))
const names = computed(() => {
  const list = (props.kind === 'provider' ? tried.value?.received : tried.value?.profile) ?? []
  return [...new Set(list.flatMap((a) => [a.name, a.friendlyName].filter((n): n is string => !!n)))]
})
const targets = computed(() => [...new Set((proposal.value?.mapping.rules ?? []).map((r) => r.to.name ?? '').concat(
  (proposal.value?.without ?? []).map((w) => w.name)).filter(Boolean))])
const stages = computed(() => {
  const t = tried.value
  if (!t) return []
  return [{ title: 'Received', of: t.provider, list: t.received, name: t.subject },
    { title: 'Profile', of: '', list: t.profile, name: '' },
    ...(t.application && !t.refused ? [{ title: 'Sent', of: t.application, list: t.released, name: t.name }] : []),
  ] as { title: string; of?: string; list: MappedValues[]; name?: string }[]
})
const takeProposal = () => {
  const known = new Set(mapping.value.rules.map((r) => r.to.name))
  const more = mappingOf(proposal.value?.mapping).rules.filter((r) => !known.has(r.to.name))
  mapping.value = { ...mapping.value, rules: [...mapping.value.rules, ...more] }
}
const proposable = computed(() => (proposal.value?.mapping.rules ?? []).filter((r) =>
  !mapping.value.rules.some((m) => m.to.name === r.to.name)).length)

const settings = () => ({ [setting.value]: mapping.value, [setSetting.value]: set.value })
const { busy, failed, act } = useAct({ done: () => Promise.all([load(), loadSets()]) })
const save = (why: string) => act(() => kind.value.save(data.value!, settings(), why))
const proposed = () => ({ changes: [{ kind: props.kind, name: props.name, settings: settings() }] }) as Schemas['Proposed']
const change = () => ({ changes: [{ kind: props.kind, name: props.name, settings: settings() }] }) as Schemas['Reevaluation']
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
  <ProblemBox :problem="problem" />
  <section class="sheet main">
    <div class="tools on">
      <span>Tried on</span> <TriedOn v-model="on" :kind="props.kind" :name="name" />
      <template v-if="fitting.length || set">
        <label for="set">Over the set</label>
        <el-select id="set" v-model="set" aria-label="Over the set" clearable placeholder="None" class="sets" :empty-values="[null, undefined]"
            :value-on-clear="''">
          <el-option v-for="s in fitting" :key="s.name" :value="s.name" :label="`${s.name}: ${s.title}`" /></el-select>
        <router-link v-if="shared" :to="`/map/sets/${set}`">{{ shared.mapping.rules?.length ?? 0 }} {{ shared.mapping.rules?.length === 1 ?
          'rule' : 'rules' }}, shared by {{ shared.using?.length ?? 0 }}</router-link>
      </template>
    </div>
    <MappingEditor v-model="mapping" v-model:unread="unread" :way="way" :names="names" :targets="targets" :set="!!set"
        :outcomes="outcomes" :problem="refused">
      <template #tools><el-button v-if="proposable" size="small" @click="takeProposal">Add {{ proposable }} proposed
        {{ proposable === 1 ? 'rule' : 'rules' }}</el-button></template>
    </MappingEditor>
    <p v-if="proposal?.without?.length && kind.name === 'application'" class="quiet">It asks for
      <template v-for="(w, i) in proposal.without" :key="w.name"><template v-if="i">, </template><code>{{ w.name }}</code><template
          v-if="w.near"> (near: {{ w.near }})</template></template>, for which no profile has anything.</p>
    <p v-if="inherited.length && set" class="quiet">From the set: <template v-for="(o, i) in inherited" :key="o.rule"><template
        v-if="i">; </template>{{ o.to }} <code v-if="o.made?.length">{{ shown(o.made).join(', ') }}</code><template
          v-else>{{ o.outcome }}</template></template></p>
    <p v-if="!outcomes.length && !mapping.rules.length" class="quiet">No rules: everything passes unchanged.</p>
    <FindingBox v-if="tried?.refused" :finding="tried.refused" />
    <SaveChange :busy="busy" :disabled="!!unread || !!refused || !changed" :problem="failed" :save="save" :change="proposed" />
  </section>
  <div class="stages">
    <section v-for="s in stages" :key="s.title" class="sheet" :aria-label="s.title">
      <h2>{{ s.title }}<template v-if="s.of"> · {{ s.of }}</template></h2>
      <p v-if="s.name" class="name">{{ s.title === 'Sent' ? 'as' : 'subject' }} <code>{{ s.name }}</code></p>
      <dl>
        <template v-for="a in s.list" :key="a.name + a.nameFormat">
          <dt :title="a.name">{{ a.friendlyName || a.name }}<small v-if="a.place && a.place !== 'assertion'">{{ a.place }}</small></dt>
          <dd v-for="(v, i) in shown(a.values)" :key="i">{{ v }}</dd>
        </template>
      </dl>
      <p v-if="!s.list.length" class="quiet">Nothing.</p>
      <ToldNotes v-if="s.title === 'Sent' && tried" :told="tried" />
    </section>
  </div>
  <ReevaluationPanel v-if="changed && !refused && !unread" :change="change" />
</template>

<style scoped>
.main { padding: 12px 16px }
.on { margin-bottom: 8px }
.sets { width: 260px }
.stages { display: grid; grid-template-columns: repeat(auto-fit, minmax(260px, 1fr)); gap: 16px; margin-top: 16px;
  align-items: start }
.stages section { padding: 12px 16px; min-width: 0 }
.stages h2 { margin: 0 0 4px; font-size: 15px }
.name { margin: 0 0 4px }
dl { display: grid; grid-template-columns: minmax(90px, 2fr) 3fr; margin: 0; font-size: 13px }
dt { grid-column: 1; color: var(--quiet); overflow-wrap: anywhere }
dd { grid-column: 2; margin: 0; overflow-wrap: anywhere }
dt small { display: block; font-size: 11px }
@media (max-width: 720px) { .sets { width: 100% } }
</style>
