<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, because, take, type Preview, type Provider } from '../api/client'
import IntakeForm from '../components/IntakeForm.vue'
import PreviewPanel from '../components/PreviewPanel.vue'
import ProblemBox from '../components/ProblemBox.vue'
import ShownOnce from '../components/ShownOnce.vue'
import { useAct } from '../composables/act'
import { handedOver } from '../composables/handover'
import { useLoad } from '../composables/load'
import { people as words, protocols } from '../composables/words'

const props = defineProps<{ kind: 'provider' | 'application' }>()
const route = useRoute()
const router = useRouter()
const isApp = computed(() => props.kind === 'application')
const what = computed(() => (isApp.value ? 'an application' : 'a provider'))
const other = computed(() => (typeof route.query.record === 'string' ? route.query.record : ''))
const protocol = ref('')
const form = ref({ name: '', title: '', provider: '', ownStart: '', allowUnsolicited: false, approveChanges: false,
  trustKey: '', why: '', phase: props.kind === 'provider' ? 'paused' : 'live', everyone: 'no' })
const intake = ref<InstanceType<typeof IntakeForm>>()
const preview = ref<Preview>()
const { busy, failed: problem, act: run } = useAct({
  failed: () => { preview.value = undefined; window.scrollTo({ top: 0 }) } })
const wrong = (field: string) => {
  const message = problem.value?.errors?.find((e) => e.field === field)?.message
  return message ? (problem.value?.finding?.title ?? message) : ''
}
/** What is shown this once. */
const once = ref<{ name: string; id: string; secret: string }>()
const draft = computed(() => !!preview.value?.missing?.length)
/** One that lacks values has no phase to choose yet. */
const unfinished = computed(() => draft.value)
/** Whether people sign in to it: of a service they do not. */
const people = computed(() => (intake.value?.settings() as { kind?: string } | undefined)?.kind !== 'service')

const { data: about } = useLoad(() => take(api.GET('/api/v1/gate')))
const choices = computed(() => about.value?.protocols[props.kind] ?? [])
const speaks = computed(() => protocol.value || choices.value[0] || '')
const { data: providers } = useLoad(() => (isApp.value
  ? take(api.GET('/api/v1/providers', { params: { query: { limit: 20000 } } })) : Promise.resolve(undefined)))

const entity = ref('')
async function body() {
  const { name, why: _, ...settings } = form.value
  const own = isApp.value ? ['title', 'provider', 'ownStart', 'approveChanges', 'trustKey']
    : ['title', 'allowUnsolicited', 'approveChanges', 'trustKey']
  return { name, protocol: protocol.value || undefined,
    ...(other.value ? { record: other.value } : { ...await intake.value!.given(), entity: entity.value || undefined }),
    settings: { ...Object.fromEntries(Object.entries(settings).filter(([k, v]) => own.includes(k) && v)),
      ...(unfinished.value ? {} : { phase: form.value.phase }), ...(isApp.value && people.value ? { everyone: form.value.everyone } : {}),
      ...intake.value?.settings() } as Provider['settings'] }
}
/** Where answers will come in, to be registered at the provider before it gives anything. */
const redirect = computed(() => (isApp.value || !form.value.name ? undefined
  : `${about.value?.base ?? ''}/oidc/rp/${form.value.name}/callback`))
const gaining = computed(() => words(preview.value?.consequence?.choosing ?? 0))
function pick(id: string) {
  entity.value = id
  void look()
}

const look = () => run(async () => {
  const given = await body()
  preview.value = await take(isApp.value ? api.POST('/api/v1/applications/preview', { body: given })
    : api.POST('/api/v1/providers/preview', { body: given }))
  if (form.value.name === '') form.value.name = preview.value.name
})

const add = () => run(async (confirm) => {
  const all = { ...(await body()), expect: preview.value!.document, draft: draft.value }
  const made = await because(form.value.why, () => take<{ name: string; clientId?: string; clientSecret?: string }>(isApp.value
    ? api.POST('/api/v1/applications', { body: all }) : api.POST('/api/v1/providers', { body: all })), confirm)
  if (made.clientId && made.clientSecret) once.value = { name: made.name, id: made.clientId, secret: made.clientSecret }
  else await router.push(`/connect/${props.kind}s/${made.name}`)
})

function large(file: File) {
  handedOver.value = file
  void router.push('/connect/aggregates')
}
</script>

<template>
  <div class="head">
    <div>
      <h1>Add {{ what }}</h1>
      <p>Give what the other side handed over: metadata as a file, an address or text, a certificate, or single values;
        of a link, its address; of an OpenID provider, its issuer. You see what would be set before anything is stored.</p>
    </div>
  </div>
  <ProblemBox :problem="problem" />
  <ShownOnce v-if="once" :title="`${once.name} is added.`" :id="once.id" :secret="once.secret">
    <router-link :to="`/connect/applications/${once.name}`"><el-button type="primary">Go on to what the application needs</el-button></router-link>
  </ShownOnce>
  <el-form v-if="!once" label-position="top" class="sheet form" @submit.prevent="look">
    <p v-if="other">From the document of <code>{{ other }}</code>, which holds this role as well.</p>
    <el-form-item v-if="choices.length > 1 && !other" label="What it speaks">
      <el-radio-group :model-value="speaks" aria-label="What it speaks"
          @change="(v) => { protocol = String(v); preview = undefined }">
        <el-radio v-for="p in choices" :key="p"
            :value="p">{{ p === 'link' ? 'nothing: it is only a link' : (protocols[p] ?? p) }}</el-radio>
      </el-radio-group>
    </el-form-item>
    <IntakeForm v-if="!other" ref="intake" :kind="kind" :protocol="speaks" :problem="problem" :redirect="redirect"
        @changed="preview = undefined; entity = ''" @large="large" @named="(n) => { if (form.name === '') form.name = n }" />
    <el-form-item label="Short name" :error="wrong('name')">
      <el-input v-model="form.name" name="name" placeholder="proposed from the title" @input="preview = undefined" />
      <div class="quiet hint">a-z, 0-9 and hyphen; it is part of addresses and never changes</div>
    </el-form-item>
    <el-form-item label="Title"><el-input v-model="form.title" name="title"
        placeholder="taken from the metadata, if it has any" @input="preview = undefined" /></el-form-item>
    <template v-if="isApp">
      <el-form-item label="Provider" :error="wrong('provider')">
        <el-select v-model="form.provider" clearable placeholder="decided by the routing" aria-label="Provider"
            @change="preview = undefined">
          <el-option v-for="p in providers?.items ?? []" :key="p.name" :label="p.title" :value="p.name" />
        </el-select>
      </el-form-item>
      <el-form-item v-if="speaks !== 'link'" label="Its own start address, if it accepts only sign-ins it started"
          :error="wrong('ownStart')"><el-input v-model="form.ownStart" name="ownStart" placeholder="https://"
              @input="preview = undefined" /></el-form-item>
    </template>
    <el-form-item v-else-if="speaks !== 'oauth2'" label="Starts at the provider"><el-checkbox v-model="form.allowUnsolicited">Accept
      answers that nobody asked for: people may start there</el-checkbox></el-form-item>
    <el-form-item v-if="isApp" label="Who enters"><el-radio-group v-model="form.everyone" aria-label="Who enters" @change="preview = undefined">
      <el-radio value="no">nobody, until a rule or an admission lets them in</el-radio><el-radio value="yes">everyone with a valid answer of a provider</el-radio></el-radio-group></el-form-item>
    <el-form-item label="From when"><el-radio-group v-model="form.phase" aria-label="From when" @change="preview = undefined"><el-radio value="live">live now</el-radio>
      <el-radio value="draft">draft: it is being set up, nobody passes</el-radio>
      <el-radio value="paused">paused: nobody passes until somebody resumes it</el-radio></el-radio-group></el-form-item>
    <details v-if="!['link', 'oauth2'].includes(speaks)">
      <summary>How its metadata is kept fresh</summary>
      <el-form-item label="Changes"><el-checkbox v-model="form.approveChanges">Of keys, addresses or entity ID wait for
        approval</el-checkbox></el-form-item>
      <el-form-item v-if="speaks === 'saml'" label="Trust key" :error="wrong('trustKey')"><el-input v-model="form.trustKey" name="trustKey"
          type="textarea" :rows="4" placeholder="certificate in PEM whose key must have signed the metadata"
              @input="preview = undefined" /></el-form-item>
    </details>
    <el-button :type="preview ? 'default' : 'primary'" native-type="submit" :loading="busy">Preview</el-button>
  </el-form>
  <template v-if="preview && !once">
    <PreviewPanel :preview="preview" @pick="pick" />
    <p v-if="preview.consequence?.offered?.length" class="sheet gains" role="status"><template v-for="o in preview.consequence.offered" :key="o.provider"><strong>{{ form.title || preview.title || o.provider }}</strong> would be offered
      at {{ o.applications?.join(', ') }}.</template> {{ gaining }} who may enter there would gain a choice.</p>
    <div v-if="!preview.choices?.length" class="save">
      <el-input v-model="form.why" name="why" placeholder="Why (optional, kept in the history)" aria-label="Why" />
      <el-button v-if="!preview.existing" type="primary" :loading="busy" :disabled="!!preview.known"
          @click="add">{{ draft ? 'Keep it unfinished' : 'Add' }}</el-button>
      <router-link v-if="preview.existing || preview.known" :to="`/connect/${kind}s/${preview.known || preview.name}`">
        <el-button>Go to the record that is there</el-button></router-link>
    </div>
  </template>
</template>

<style scoped>
.gains { padding: 8px 16px; border-left: 4px solid var(--waiting); max-width: 720px }
.form { padding: 16px 24px 24px; max-width: 720px }
.hint { width: 100%; font-size: 12px; line-height: 1.5 }
details { margin-bottom: 16px }
summary { cursor: pointer; margin-bottom: 8px }
.save { display: flex; gap: 12px; margin-top: 16px; max-width: 720px }
</style>
