<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, because, take, type Link, type Mapped, type Membership, type PersonJoined } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import ToldNotes from '../components/ToldNotes.vue'
import { useAct } from '../composables/act'
import PortalPanel from '../components/PortalPanel.vue'
import { useLoad } from '../composables/load'
import { decisions, signs, tones } from '../composables/entry'
import { kinds } from '../composables/objects'
import { shown } from '../composables/rules'
import { ago, done, known, local, nameIDFormats, proofHint, proofs, short } from '../composables/words'

const props = defineProps<{ number: string }>()
const router = useRouter()
const path = computed(() => ({ params: { path: { number: Number(props.number) } } }))
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/people/{number}', path.value)), () => props.number)
const calls = computed(() => (data.value?.links ?? []).map((k) => k.subject?.value).filter((n): n is string => !!n))
const { data: events } = useLoad(() => take(api.GET('/api/v1/people/events', { params: { query: { person: Number(props.number), newest: true, limit: 50 } } })), () => data.value)
const { data: traces } = useLoad(async () => (calls.value[0] ? (await take(api.GET('/api/v1/traces',
  { params: { query: { search: calls.value[0], limit: 10 } } }))).items ?? [] : []), () => calls.value[0])
const { data: choices } = useLoad(async () => ({ providers: (await kinds.provider.list({ limit: 20000 })).items ?? [], apps: (await kinds.application.list({ limit: 20000 })).items ?? [],
  groups: (await take(api.GET('/api/v1/groups'))).items ?? [], organisations: (await take(api.GET('/api/v1/organisations'))).items ?? [] }))
const { busy, failed, act } = useAct({ done: load })
const { failed: stuck, act: go } = useAct()
const n = (count: number, word: string) => `${count} ${word}${count === 1 ? '' : 's'}`
const holds = computed(() => { const p = data.value
  return p ? [n(p.sessions?.length ?? 0, 'session'), n(p.grants, 'grant'), n(p.subjects?.length ?? 0, 'lasting name'), n(p.consents, 'consent')].join(', ') : '' })

async function sure(text: string, title: string, does: string) {
  try {
    return ((await ElMessageBox.prompt(text, title, { confirmButtonText: does, cancelButtonText: 'Leave it', type: 'warning',
      inputPlaceholder: 'Why (optional)' })) as { value?: string }).value ?? ''
  } catch {
    return undefined
  }
}
async function disable() {
  const why = await sure(`They hold ${holds.value}. Sessions and grants end at once, and the applications that want to hear of it are told.`,
    `Disable ${data.value!.name}?`, 'Disable')
  if (why !== undefined) await act(() => because(why, () => take(api.POST('/api/v1/people/{number}/disable', path.value))))
}
const enable = () => act(() => take(api.POST('/api/v1/people/{number}/enable', path.value)))
async function remove() {
  const why = await sure(`They hold ${holds.value}. All of it goes, with their links and traces; only the history says that it was done. Should they come again, they are somebody new.`,
    `Remove ${data.value!.name}?`, 'Remove')
  if (why === undefined) return
  await go(async () => {
    await because(why, () => take(api.DELETE('/api/v1/people/{number}', path.value)))
    await router.push('/admit/people')
  })
}
async function part(k: Link) {
  const why = await sure(`Whoever comes as ${k.subject?.value ?? 'this name'} is another person from now on, with an account of their own. All sessions of ${data.value!.name} end.`,
    'Part this link?', 'Part it')
  if (why !== undefined) await act(() => because(why, () => take(api.POST('/api/v1/people/{number}/part', { ...path.value, body: { link: k.key } }))))
}

const linkTo = ref('')
const linkAs = ref('')
const linkFormat = ref('')
const link = () => act(async () => {
  await take(api.POST('/api/v1/people/{number}/links', { ...path.value, body: { provider: linkTo.value, subject: linkAs.value,
    ...(linkFormat.value ? { format: linkFormat.value } : {}) } }))
  linkTo.value = linkAs.value = ''
})
const attribute = ref('')
const value = ref('')
const keep = () => act(async () => {
  await take(api.PATCH('/api/v1/people/{number}', { ...path.value,
    body: { values: { [attribute.value]: value.value.split('|').map((v) => v.trim()).filter(Boolean) } } }))
  attribute.value = value.value = ''
})
function edit(name: string, values: unknown[]) {
  attribute.value = name
  value.value = shown(values as never).join(' | ')
}
const unit = ref('')
const belong = () => act(async () => {
  const [kind, name] = unit.value.split('/') as ['group' | 'organisation', string]
  await take(api.PATCH('/api/v1/people/{number}', { ...path.value, body: { join: [{ kind, name }] } }))
  unit.value = ''
})
const leave = (m: Membership) => act(() => take(api.PATCH('/api/v1/people/{number}', { ...path.value, body: { leave: [{ kind: m.kind, name: m.name }] } })))

const other = ref('')
const joined = ref<PersonJoined>()
const letIn = ref(false) // though one of the two is disabled
watch(other, () => { joined.value = undefined; letIn.value = false })
watch(letIn, () => joined.value && weigh())
const weigh = () => act(async () => {
  joined.value = await take(api.POST('/api/v1/people/{number}/join', { ...path.value, body: { other: Number(other.value), preview: true, enable: letIn.value } }))
})
const join = () => act(async () => {
  await take(api.POST('/api/v1/people/{number}/join', { ...path.value, body: { other: Number(other.value), digest: joined.value!.digest, enable: letIn.value } }))
  other.value = ''
})

const { data: entries, load: again } = useLoad(() => take(api.GET('/api/v1/people/{number}/entries', path.value)), () => [props.number, data.value])
const { failed: unadmitted, busy: admitting, act: admitAct } = useAct({ done: again })
const entry = ref('')
const until = ref('')
const admit = () => admitAct(async () => {
  await take(api.POST('/api/v1/applications/{name}/admissions', { params: { path: { name: entry.value } }, body: { people: [Number(props.number)], until: until.value || undefined } }))
  entry.value = until.value = ''
})
const withdraw = (name: string) => admitAct(() => take(api.POST('/api/v1/applications/{name}/admissions/withdraw', { params: { path: { name } }, body: { people: [Number(props.number)] } })))
const given = (name: string) => entries.value?.admissions?.find((a) => a.application === name)

const app = ref('')
const told = ref<Mapped>()
const { failed: untold, act: tell } = useAct()
watch([app, () => data.value], () => { told.value = undefined
  if (app.value) void tell(async () => { told.value = await take(api.GET('/api/v1/people/{number}/told',
    { params: { ...path.value.params, query: { application: app.value } } })) }) })
</script>

<template>
  <ProblemBox :problem="problem ?? failed ?? stuck" />
  <template v-if="data">
    <div class="head"><div><h1>{{ data.name }}</h1>
      <p>person {{ data.number }} · <span :class="data.disabled ? 'refused' : 'passed'">{{ data.disabled ? '✕ disabled' : '● enabled' }}</span><template
          v-if="data.disabled"> since {{ local(data.disabled) }}</template><template v-if="data.userType"> · {{ data.userType }}</template> · added
        {{ ago(data.added) }} · {{ holds }}</p></div>
      <div class="tools"><el-button v-if="data.disabled" :loading="busy" @click="enable">Enable</el-button>
        <el-button v-else :loading="busy" @click="disable">Disable</el-button>
        <el-button type="danger" plain @click="remove">Remove</el-button></div></div>
    <div class="two">
      <section><h2>Profile</h2>
        <el-table :data="data.values ?? []">
          <el-table-column label="Attribute" width="150"><template #default="{ row }"><code>{{ row.name }}</code></template></el-table-column>
          <el-table-column label="Value" min-width="190"><template #default="{ row }"><span :title="shown(row.values).join(', ')">{{ shown(row.values).join(', ') }}</span>
            <span v-for="m in row.marks ?? []" :key="m.value" class="small quiet"><br>{{ m.value }}: {{ [m.type, m.primary ? 'primary' : ''].filter(Boolean).join(', ') }}</span></template></el-table-column>
          <el-table-column label="From" width="150"><template #default="{ row }"><span :title="`${known(row.source)}, ${local(row.at)}`">{{ known(row.source) }}</span><br><span class="small" :class="row.proofs.includes('') ? 'waiting' : 'quiet'" :title="proofHint(row.proofs)">{{ proofs(row.proofs) }}</span></template></el-table-column>
          <el-table-column label="" width="84"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.name}`" @click="edit(row.name, row.values)">Change</el-button></template></el-table-column>
          <template #empty>Nothing is kept: the provider says it anew at each sign-in.</template>
        </el-table>
        <form class="tools line" @submit.prevent="keep"><el-input v-model="attribute" name="attribute" placeholder="Attribute" aria-label="Attribute" style="width: 150px" />
          <el-input v-model="value" name="value" placeholder="Value; several with |; empty takes it away" aria-label="Value" class="grow" />
          <el-button native-type="submit" :disabled="!attribute" :loading="busy">Keep</el-button></form>
      </section>
      <section><h2>Belongs to</h2>
        <el-table :data="data.members ?? []">
          <el-table-column label="" width="122"><template #default="{ row }"><span class="quiet">{{ row.kind }}</span></template></el-table-column>
          <el-table-column label="Name" min-width="130"><template #default="{ row }"><router-link :to="`/admit/${row.kind}s`">{{ row.name }}</router-link></template></el-table-column>
          <el-table-column label="By" width="140"><template #default="{ row }"><span :title="local(row.added)">{{ known(row.source) }}</span></template></el-table-column>
          <el-table-column label="" width="90"><template #default="{ row }"><el-button link type="primary" :aria-label="`Take out of ${row.name}`" @click="leave(row as Membership)">Take out</el-button></template></el-table-column>
          <template #empty>No group and no organisation.</template>
        </el-table>
        <form class="tools line" @submit.prevent="belong"><el-select v-model="unit" aria-label="Group or organisation" filterable placeholder="Group or organisation" class="grow">
          <el-option v-for="u in choices?.groups ?? []" :key="u.name" :value="`group/${u.name}`" :label="u.title" />
          <el-option v-for="u in choices?.organisations ?? []" :key="u.name" :value="`organisation/${u.name}`" :label="`${u.title} (organisation)`" /></el-select>
          <el-button native-type="submit" :disabled="!unit" :loading="busy">Join</el-button></form>
      </section>
    </div>
    <h2>Enters</h2>
    <ProblemBox :problem="unadmitted" />
    <el-table :data="entries?.items ?? []" class="entries">
      <el-table-column label="Application" min-width="180"><template #default="{ row }"><router-link :to="`/connect/applications/${row.application}/entrants`">{{ row.title }}</router-link></template></el-table-column>
      <el-table-column label="Decision" width="150"><template #default="{ row }"><span :class="tones[row.decision]">{{ signs[row.decision] }} {{ row.decision === 'step-up' ? 'after more' : decisions[row.decision] }}</span></template></el-table-column>
      <el-table-column label="As" min-width="170"><template #default="{ row }"><span v-for="(r, i) in row.roles ?? []" :key="r.role" :title="`${r.by}; ${r.enters ? 'sent' : 'not sent'}`"
          :class="{ quiet: !r.enters }">{{ i ? ', ' : '' }}{{ r.title }}</span><span v-if="!row.roles?.length" class="quiet">–</span></template></el-table-column>
      <el-table-column label="Why" min-width="300"><template #default="{ row }"><span :title="row.why">{{ row.why }}</span></template></el-table-column>
      <el-table-column label="" width="130"><template #default="{ row }"><el-button v-if="given(row.application)" link type="danger" :aria-label="`Take entry to ${row.title} away`" @click="withdraw(row.application)">Take away</el-button></template></el-table-column>
      <template #empty>There are no applications yet.</template>
    </el-table>
    <form class="tools line" @submit.prevent="admit"><span>Admit by name to</span><el-select v-model="entry" aria-label="Application to admit to" filterable placeholder="Application" style="width: 240px">
        <el-option v-for="e in entries?.items ?? []" :key="e.application" :value="e.application" :label="e.title" /></el-select>
      <el-input v-model="until" name="until" placeholder="until, like 2027-01-31" aria-label="Until" style="width: 190px" />
      <el-button native-type="submit" :loading="admitting" :disabled="!entry">Give entry</el-button></form>
    <PortalPanel :person="Number(number)" />
    <h2>Comes by</h2>
    <el-table :data="data.links ?? []">
      <el-table-column label="Its name for them" min-width="280"><template #default="{ row }"><code :title="row.subject?.format">{{ row.subject?.value ?? 'not kept: made by an earlier build' }}</code>
      </template></el-table-column>
      <el-table-column label="Format" width="130"><template #default="{ row }">{{ short(row.subject?.format ?? '') || '–' }}</template></el-table-column>
      <el-table-column label="Provider" min-width="180"><template #default="{ row }"><router-link v-if="row.provider.name && !row.provider.removed"
          :to="`/connect/providers/${row.provider.name}`">{{ row.provider.title || row.provider.name }}</router-link><span v-else
          class="quiet">{{ row.provider.name || row.provider.id }}, removed</span></template></el-table-column>
      <el-table-column label="Linked" width="140"><template #default="{ row }"><time v-if="row.added" :title="local(row.added)">{{ ago(row.added) }}</time>
      </template></el-table-column>
      <el-table-column label="" width="130"><template #default="{ row }"><el-button v-if="(data.links?.length ?? 0) > 1" link type="primary" @click="part(row as Link)">Part the link</el-button></template></el-table-column>
      <template #empty>No links: nobody comes as this person until a provider matches them.</template>
    </el-table>
    <form class="tools line" @submit.prevent="link"><span>Link to</span>
      <el-select v-model="linkTo" aria-label="Provider of the link" filterable clearable placeholder="Provider" style="width: 200px">
        <el-option v-for="p in choices?.providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select>
      <el-input v-model="linkAs" name="linkAs" aria-label="Name there" placeholder="its NameID or sub for them" style="width: 260px" />
      <el-select v-if="choices?.providers.find((p) => p.name === linkTo)?.protocol === 'saml'" v-model="linkFormat" aria-label="NameID format" clearable filterable
          allow-create placeholder="format as it sends others" style="width: 210px"><el-option v-for="f in nameIDFormats" :key="f" :value="f" :label="f" /></el-select>
      <el-button native-type="submit" :loading="busy" :disabled="!linkTo || !linkAs">Link</el-button></form>
    <form class="tools line" @submit.prevent="joined ? join() : weigh()"><span>Join with the account number</span>
      <el-input v-model="other" name="other" aria-label="Number of the other account" style="width: 100px" />
      <el-button native-type="submit" :disabled="!/^[1-9][0-9]*$/.test(other)" :type="joined ? 'danger' : 'default'" plain :loading="busy">{{ joined ? 'Join both accounts' : 'Preview' }}</el-button></form>
    <p v-if="joined" class="sheet weighed" aria-live="polite">Person {{ other }} goes. {{ n(joined.links, 'link') }} and {{ n(joined.subjects, 'lasting name') }} come along<template
        v-if="joined.values?.length">, with {{ joined.values.join(', ') }}</template>; {{ n(joined.sessions, 'session') }} end{{ joined.sessions === 1 ? 's' : '' }}.<template
        v-if="joined.differ?.length">{{ ' ' + joined.differ.join(', ') }} stay as they are here.</template><template
        v-if="joined.lost?.length">{{ ' ' }}Known to {{ joined.lost.join(', ') }} by both: the other's name there goes.</template><template
        v-if="joined.disabled?.length">{{ ' ' }}<strong class="refused">Disabled: {{ joined.disabled.join(', ') }}.</strong> Person {{ number }} {{ joined.enabled ? 'is let in afterwards.' : 'is disabled afterwards, too: whoever left would come in again.' }}
        <el-checkbox v-model="letIn" :disabled="busy">Let them in</el-checkbox></template></p>
    <div class="two">
      <section><h2>Signed in</h2>
        <el-table :data="data.sessions ?? []">
          <el-table-column label="By" min-width="160"><template #default="{ row }">{{ row.providers?.join(', ') }}</template></el-table-column>
          <el-table-column label="Since" width="120"><template #default="{ row }"><time :title="local(row.began)">{{ ago(row.began) }}</time></template></el-table-column>
          <el-table-column label="Until" width="180"><template #default="{ row }">{{ local(row.expires) }}</template></el-table-column>
          <template #empty>No session.</template>
        </el-table></section>
      <section><h2>Known to applications as</h2>
        <el-table :data="data.subjects ?? []">
          <el-table-column label="Application" min-width="150" prop="application" />
          <el-table-column label="Lasting name" min-width="200"><template #default="{ row }"><code :title="row.value">{{ row.value }}</code></template></el-table-column>
          <el-table-column label="" width="90" prop="source" />
          <template #empty>No lasting name was given.</template>
        </el-table></section>
    </div>
    <h2>What would be told of them</h2>
    <div class="tools"><el-select v-model="app" aria-label="Application" filterable placeholder="Application" style="width: 280px">
      <el-option v-for="a in choices?.apps ?? []" :key="a.name" :value="a.name" :label="a.title" /></el-select>
      <span class="quiet">at their next sign-in, by what their provider said last and what is kept</span></div>
    <ProblemBox :problem="untold" />
    <template v-if="told"><p v-if="told.refused" class="refused">{{ told.refused.title }}</p>
      <dl v-else class="sheet told"><dt>Name</dt><dd><code>{{ told.name || 'none yet' }}</code></dd>
        <template v-for="a in told.released ?? []" :key="a.name"><dt>{{ a.friendlyName || a.name }} <small v-if="a.place && a.place !== 'assertion'">{{ a.place }}</small></dt><dd>{{ shown(a.values ?? []).join(', ') }}</dd></template>
        <ToldNotes :told="told" /></dl></template>
    <h2>What was done</h2>
    <el-table :data="events?.items ?? []">
      <el-table-column label="At" width="150"><template #default="{ row }"><time :title="local(row.at)">{{ ago(row.at) }}</time></template></el-table-column>
      <el-table-column label="What" min-width="320"><template #default="{ row }"><span class="says">{{ done(row.did) }}</span></template></el-table-column>
      <el-table-column label="By" width="110" prop="via" />
      <el-table-column label="Who" min-width="160" prop="who" />
      <template #empty>Nothing that is kept still.</template>
    </el-table>
    <h2>Sign-ins of late</h2>
    <el-table :data="traces ?? []">
      <el-table-column label="Result" width="110"><template #default="{ row }"><span :class="{ entered: 'passed', refused: 'refused' }[row.result as string] ??
        'waiting'">{{ row.result }}</span></template></el-table-column>
      <el-table-column label="Reference" width="140"><template #default="{ row }"><router-link :to="`/watch/traces/${row.id}`">{{ row.id }}</router-link>
      </template></el-table-column>
      <el-table-column label="Application" min-width="180" prop="application" />
      <el-table-column label="Provider" min-width="160" prop="provider" />
      <el-table-column label="Started" width="140"><template #default="{ row }"><time :title="local(row.started)">{{ ago(row.started) }}</time></template>
      </el-table-column>
      <template #empty>None is recorded.</template>
    </el-table>
  </template>
</template>

<style scoped>
.two { display: grid; grid-template-columns: minmax(0, 1.25fr) minmax(0, 1fr); gap: 0 24px }
.line { margin: 8px 0 0; flex-wrap: nowrap }
.grow { flex: 1 }
.weighed { padding: 12px 16px; margin: 8px 0 0; border-left: 4px solid var(--waiting) }
.told { padding: 12px 16px; margin: 0; display: grid; grid-template-columns: 220px 1fr; gap: 4px 16px }
.told dt { color: var(--quiet) }
.told dd { margin: 0; overflow-wrap: anywhere }
@media (max-width: 1000px) { .two { grid-template-columns: minmax(0, 1fr) } }
.says { white-space: normal; overflow-wrap: anywhere }
</style>
