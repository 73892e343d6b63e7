<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Refreshed } from '../api/client'
import AcknowledgeForm from '../components/AcknowledgeForm.vue'
import CertificateFacts from '../components/CertificateFacts.vue'
import ChangeList from '../components/ChangeList.vue'
import DifferenceTable from '../components/DifferenceTable.vue'
import ExchangeSheet from '../components/ExchangeSheet.vue'
import FactList from '../components/FactList.vue'
import FindingBox from '../components/FindingBox.vue'
import EntryRules from '../components/EntryRules.vue'
import WayRules from '../components/WayRules.vue'
import KnownFindings from '../components/KnownFindings.vue'
import ProblemBox from '../components/ProblemBox.vue'
import RolloutPanel from '../components/RolloutPanel.vue'
import SettingsDrawer from '../components/SettingsDrawer.vue'
import TakeAlong from '../components/TakeAlong.vue'
import TakeInDrawer from '../components/TakeInDrawer.vue'
import WaysDrawn from '../components/WaysDrawn.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { ago, days, local, named, protocols, short, standings } from '../composables/words'

const props = defineProps<{ kind: Kind['name']; name: string }>()
const router = useRouter()
const kind = computed(() => kinds[props.kind])
const { failed, act } = useAct({ failed: () => window.scrollTo({ top: 0 }) })
const editing = ref(false)
const takingIn = ref(false)
const why = ref('')
const reach = ref(false)
const refreshed = ref<Refreshed>()
const at = () => [props.kind, props.name]
const { data, problem, load } = useLoad(() => kind.value.show(props.name), at)
const { data: fields } = useLoad(async () => data.value && kind.value.fields(data.value.it.protocol),
  () => [props.kind, data.value?.it.protocol])
/** What its addresses say, when they were asked; otherwise what is found anyway. */
const { data: asked, load: check, loading: checking } = useLoad(
  async () => (reach.value ? (await take(api.GET('/api/v1/checks', { params: { query: { name: [props.name],
    kind: props.kind, all: true, reach: true } } }))).items?.[0]?.findings ?? [] : undefined),
  () => [...at(), data.value?.it.revision])
const checks = computed(() => asked.value ?? data.value?.it.standing.findings ?? [])
const standing = computed(() => data.value?.it.standing)
const { data: waiting, load: wait } = useLoad(async () => (await take(api.GET('/api/v1/waiting',
  { params: { query: { kind: props.kind, name: props.name } } }))).items?.[0], () => [...at(), data.value?.it.revision])
const { data: history } = useLoad(() => take(api.GET('/api/v1/history',
  { params: { query: { kind: props.kind, name: props.name, limit: 8 } } })), () => [...at(), data.value?.it.revision,
  waiting.value])

const facts = computed(() => {
  const it = data.value?.it
  if (!it) return []
  const fresh = it.taken.fresh
  return [
    ...(it.entityId ? [isClient.value ? { label: 'Client ID', value: it.entityId, also: ['client_id'] }
      : { label: 'Entity ID', also: kind.value.also, ...identities[it.protocol], value: it.entityId }] : []),
    ...(it.endpoints ?? []).map((e) => (e.binding ? { label: `${e.use} by ${short(e.binding)}`, value: e.location }
      : { label: e.use, value: e.location })),
    ...(it.facts ?? []).map((f) => ({ label: named(f), value: f.value })),
    { label: 'Metadata from', value: { document: 'a document', typed: 'values typed by hand' }[it.source] ?? it.source,
      plain: !hasAddress.value },
    ...(it.taken.validUntil ? [{ label: 'Valid until',
      value: `${local(it.taken.validUntil)}, ${days(it.taken.validUntil)}`, plain: true }] : []),
    ...(it.taken.verified ? [{ label: 'Signature', value: 'by the trust key', plain: true }] : it.taken.signedBy
      ? [{ label: 'Signature', value: `by ${it.taken.signedBy}, not vouched for`, plain: true }] : []),
    ...(it.taken.trustKeys ?? []).map((k) => ({ label: 'Trust key', value: k.sha256 ?? '', hint: k.subject })),
    ...(hasAddress.value && fresh.checked
      ? [{ label: 'Refreshed', value: `${local(fresh.checked)}; again ${local(fresh.next!)}`, plain: true }] : []),
    { label: 'ID', value: it.id, hint: 'what links and subjects refer to; never used again' },
    { label: 'Added', value: local(it.added), plain: true },
  ]
})
const isClient = computed(() => data.value?.it.protocol === 'oidc' && props.kind === 'application')
/** What a provider is known by, where that is no entity ID. */
const identities: Record<string, { label: string; also?: string[] }> = {
  oidc: { label: 'Issuer', also: ['authority', 'provider URL'] }, oauth2: { label: 'Known by its token endpoint' } }
const hasAddress = computed(() => /^https?:/.test(data.value?.it.source ?? ''))
/** The settings that say something, as facts. */
const decided = computed(() =>
  (fields.value ?? []).flatMap((f) => {
    const v = data.value?.it.settings[f.name]
    if (f.name === 'title' || v === '' || v === false || v === undefined) return []
    const text = f.type === 'certificate' ? 'a certificate' : String(v)
    return [{ label: f.label, value: f.type === 'switch' ? 'yes'
      : (f.choices?.find((c) => c.value === v)?.label ?? text), plain: true }]
  }),
)

async function save(settings: Record<string, unknown>, why: string) {
  await kind.value.save(data.value!.it, settings, why)
  await load()
}

const refresh = (again = false) => act(async () => {
  refreshed.value = await kind.value.refresh(props.name, again)
  await Promise.all([load(), wait(), check()])
})
const decide = (what: 'approve' | 'decline') => act(async () => {
  await kind.value.decide(props.name, what, waiting.value!.digest, why.value)
  refreshed.value = undefined
  why.value = ''
  await Promise.all([load(), wait(), check()])
})
const again = () => Promise.all([load(), check()])
function ask() {
  reach.value = true
  void check()
}

async function remove() {
  let said: unknown
  try {
    said = await ElMessageBox.prompt('Nobody can pass through it any more, from the next request on. Its history stays, and it can be restored from there.' + (props.kind === 'provider' ? ' Whom it let in is nobody to another provider under its name, until their links are carried over.' : ''), `Remove ${props.name}?`, { confirmButtonText: 'Remove', cancelButtonText: 'Keep', type: 'warning', inputPlaceholder: 'Why (optional)' })
  } catch {
    return
  }
  await act(async () => {
    await kind.value.remove(props.name, (said as { value?: string }).value ?? '')
    await router.push(`/connect/${props.kind}s`)
  })
}
</script>

<template>
  <ProblemBox :problem="problem ?? failed" />
  <template v-if="data">
    <div class="head">
      <div>
        <h1>{{ data.it.title }}</h1>
        <p><code>{{ data.it.name }}</code> · {{ protocols[data.it.protocol] ?? data.it.protocol }} {{ kind.name }} ·
          revision {{ data.it.revision }} · {{ data.it.settings.phase }}</p>
        <p v-if="standing"><strong :class="standings[standing.state].tone"
            :title="standings[standing.state].means">{{ standings[standing.state].sign }}
              {{ standing.state === 'paused' ? data.it.settings.phase : standing.state }}</strong><template v-for="t in [standing.lastSignIn, standing.lastUnproved]"
                  :key="t?.id"><template v-if="t">; last sign-in <router-link :to="`/watch/traces/${t.id}`"
                      :class="{ refused: t.result === 'refused' }">{{ t.result }}</router-link> <time
                          :title="local(t.started)">{{ ago(t.started) }}</time><template
                              v-if="t.finding"> (<code>{{ t.finding }}</code>)</template>{{ t === standing.lastUnproved ? ', from a sender who was not verified' : '' }}</template></template><template
                              v-if="!standing.lastSignIn && !standing.lastUnproved">; nobody has signed in
                                yet</template></p>
        <p v-if="standing?.proofs?.length" class="proofs">Rehearsals: <template v-for="(p, i) in standing.proofs" :key="p.rehearsal"><template v-if="i">; </template>
          <router-link :to="`/rehearse/${p.rehearsal}`" :class="{ refused: p.state && p.state !== 'passed', passed: p.state === 'passed' && !p.before, waiting: p.before }">{{ p.title }}</router-link>
          {{ p.state || 'never run' }}<template v-if="p.state">, from the {{ p.start }}, <time :title="local(p.at!)">{{ ago(p.at!) }}</time></template><template v-if="p.before">, before the last change</template></template></p>
      </div>
      <div class="tools">
        <a v-if="data.it.open && ['live', 'pilot'].includes(String(data.it.settings.phase))" :href="data.it.open" target="_blank" rel="noopener">
          <el-button>Try it</el-button></a>
        <router-link :to="{ path: '/watch/traces', query: { [kind.name]: data.it.name } }"><el-button>Traces</el-button>
        </router-link>
        <router-link v-if="data.it.protocol !== 'link'"
            :to="`/connect/${kind.name}s/${data.it.name}/mapping`"><el-button>Mapping</el-button></router-link>
        <router-link v-if="kind.name === 'application' && data.it.protocol !== 'link'"
            :to="`/connect/applications/${data.it.name}/subjects`"><el-button>Subjects</el-button></router-link>
        <router-link v-if="kind.name === 'application' && data.it.protocol !== 'link'" :to="`/connect/applications/${data.it.name}/accounts`"><el-button>Accounts</el-button></router-link>
        <router-link v-if="isClient" :to="`/connect/applications/${data.it.name}/grants`"><el-button>Secrets and grants</el-button>
        </router-link>
        <TakeAlong v-if="kind.name === 'application'" kind="connection" :name="data.it.name" />
        <el-button v-if="hasAddress" @click="refresh()">Refresh</el-button>
        <el-button @click="takingIn = true">Take in newer values</el-button>
        <el-button @click="editing = true">Settings</el-button>
        <el-button type="danger" plain @click="remove">Remove</el-button>
      </div>
    </div>
    <WaysDrawn v-if="kind.name === 'application'" :title="data.it.title" :name="data.it.name" :revision="data.it.revision"
        :provider="data.it.provider || (data.it.attended === false ? 'nobody signs in' : 'decided by the routing')"
            :path="data.it.provider ? `/connect/providers/${data.it.provider}` : undefined"
                :only-own="!!data.it.ownStart" :only-gate="data.it.protocol === 'link'" />
    <section v-if="data.it.missing?.length" class="sheet notice">
      <p><strong class="waiting">○ Unfinished.</strong> Still missing, from the {{ kind.name }}'s administrator:
        {{ data.it.missing.join('; ') }}. Send them what stands below, and take in what comes back.</p>
    </section>
    <RolloutPanel :kind="kind.name" :name="data.it.name" :revision="data.it.revision" @changed="load" />
    <section v-if="waiting" class="sheet notice" aria-label="A change waits for approval">
      <p><strong class="waiting">○ A change of its metadata waits for approval</strong> since
        {{ local(waiting.since) }}.</p>
      <DifferenceTable :differences="waiting.differences ?? []" />
      <p class="tools decide"><el-input v-model="why" name="why" placeholder="Why (optional)" aria-label="Why"
          style="width: 320px" /><el-button type="primary" @click="decide('approve')">Approve</el-button>
            <el-button @click="decide('decline')">Decline</el-button></p>
    </section>
    <section v-if="refreshed && refreshed.outcome !== 'waiting'" class="sheet notice" aria-live="polite">
      <p>Refreshed: <strong>{{ refreshed.outcome }}</strong>. <el-button v-if="refreshed.outcome === 'declined before'"
          size="small" @click="refresh(true)">Call it back</el-button></p>
      <DifferenceTable v-if="refreshed.differences?.length" :differences="refreshed.differences" />
      <FindingBox v-for="(f, i) in refreshed.findings ?? []" :key="i" :finding="f" />
    </section>
    <h2>Checks</h2>
    <p v-if="!checks.length"><span class="passed">● Nothing found</span> <span class="quiet">without a
      sign-in{{ reach ? ', and every address answered' : '' }}.</span></p>
    <FindingBox v-for="f in checks" :key="f.mark" :finding="f" checked>
      <AcknowledgeForm :kind="kind.name" :name="name" :finding="f" @done="again" /></FindingBox>
    <KnownFindings :kind="kind.name" :name="name" :known="standing?.acknowledged ?? []" @done="again" />
    <p class="tools"><el-button size="small" :loading="checking && reach" @click="ask">Ask its addresses too</el-button>
    </p>
    <EntryRules v-if="kind.name === 'application' && data.it.attended !== false" :application="data.it.name" />
    <WayRules v-if="kind.name === 'provider'" :provider="data.it.name" />
    <WayRules v-else-if="data.it.attended !== false" :application="data.it.name" :tied="data.it.provider || undefined" />
    <ExchangeSheet :sheet="data.sheet" :file="`innergate-for-${data.it.name}`" :side="kind.name" />
    <h2>Settings</h2>
    <FactList :facts="decided" />
    <SettingsDrawer v-model="editing" :record="{ kind: kind.name, name }" :title="`Settings of ${data.it.title}`" :fields="fields ?? []"
        :settings="data.it.settings" :save="save" />
    <TakeInDrawer v-model="takingIn" :protocol="data.it.protocol" :kind="kind.name" :name="data.it.name" @saved="load"
        />
    <h2>What the gate knows of the {{ kind.name }}</h2>
    <FactList :facts="facts" />
    <p v-if="data.it.taken.otherRole" class="tools other">
      <router-link
          :to="{ path: `/connect/${kind.name === 'provider' ? 'applications' : 'providers'}/add`, query: { record: `${kind.name}/${data.it.name}` } }"><el-button size="small">Add its other role, as {{ kind.name === 'provider' ? 'an application' : 'a provider' }}</el-button></router-link></p>
    <template v-for="(c, i) in data.it.certificates ?? []" :key="i">
      <h2>Certificate of the {{ kind.name }}</h2>
      <CertificateFacts :certificate="c" :file="data.it.name" />
    </template>
    <h2>History</h2>
    <ChangeList :changes="history?.items ?? []" bare />
    <p class="tools other">
      <router-link :to="{ path: '/keep/history', query: { kind: kind.name, name: data.it.name } }">All
        {{ history?.total }} changes</router-link></p>
  </template>
</template>

<style scoped>
.notice { padding: 12px 16px; margin: 12px 0; border-left: 4px solid var(--waiting) }
.notice > p { margin: 0 }
.notice > p + * { margin-top: 12px }
.notice > .decide, .other { margin: 12px 0 0 }
</style>
