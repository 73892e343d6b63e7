<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { api, take, type Job, type Schemas } from '../api/client'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { decisions, tones } from '../composables/entry'
import { shown } from '../composables/rules'
import { uploadForm } from '../composables/upload'
import EntrantTable from './EntrantTable.vue'
import JobProgress from './JobProgress.vue'
import ProblemBox from './ProblemBox.vue'

/** Whether somebody would enter an application, by what, and what it would be told. */
const props = defineProps<{ application: string }>()
const who = ref<'person' | 'attributes' | 'list'>('person')
const form = reactive({ person: '', attributes: '', groups: [] as string[], provider: '', context: '', network: '', at: '', role: '' })
const { data: choices } = useLoad(async () => ({ groups: (await take(api.GET('/api/v1/groups'))).items ?? [],
  providers: (await take(api.GET('/api/v1/providers'))).items ?? [], browser: await take(api.GET('/api/v1/browser')) }))
const got = ref<Schemas['Simulated']>()
const file = ref<File>()
const job = ref<Job>()
const ended = ref<Job>()
const { busy, failed, act } = useAct({})
watch(() => props.application, () => { got.value = job.value = ended.value = undefined })
const attributes = computed(() => Object.fromEntries(form.attributes.split('\n').map((l) => l.split('=')).filter((l) => l[0]?.trim() && l.length > 1)
  .map(([name, ...rest]) => [name!.trim(), rest.join('=').split('|').map((v) => v.trim()).filter(Boolean)])))
const ready = computed(() => ({ person: /^[1-9][0-9]*$/.test(form.person), attributes: Object.keys(attributes.value).length + form.groups.length > 0, list: !!file.value })[who.value])
const simulate = () => act(async () => {
  got.value = job.value = ended.value = undefined
  const path = { path: { name: props.application } }
  if (who.value === 'list') {
    job.value = await uploadForm(`/api/v1/applications/${props.application}/simulations/list`, { skipBad: true }, file.value!, () => {})
    return
  }
  const how = { provider: form.provider || undefined, context: form.context || undefined, network: form.network || undefined, role: form.role || undefined,
    at: form.at ? new Date(form.at).toISOString() : undefined }
  got.value = await take(api.POST('/api/v1/applications/{name}/simulations', { params: path,
    body: { ...how, ...(who.value === 'person' ? { person: Number(form.person) } : { attributes: attributes.value, groups: form.groups }) } }))
})
const decides = computed(() => got.value?.rules?.findIndex((r) => r.about))
</script>

<template>
  <section class="sheet" aria-label="Would somebody enter?">
    <h2>Would somebody enter?</h2>
    <p v-if="!application" class="quiet">Choose an application above.</p>
    <el-form v-else label-position="top" class="form" @submit.prevent="simulate">
      <el-radio-group v-model="who" aria-label="Who"><el-radio value="person">Somebody who is known</el-radio><el-radio value="attributes">Somebody with attributes alone</el-radio>
        <el-radio value="list">A list of people</el-radio></el-radio-group>
      <el-form-item v-if="who === 'person'" label="Number of the person"><el-input v-model="form.person" name="person" /></el-form-item>
      <template v-else-if="who === 'attributes'">
        <el-form-item label="Attributes, one a line"><el-input v-model="form.attributes" name="attributes" type="textarea" :rows="3" placeholder="department=depot" /></el-form-item>
        <el-form-item label="Groups"><el-select v-model="form.groups" multiple filterable aria-label="Groups of the person">
          <el-option v-for="g in choices?.groups ?? []" :key="g.name" :value="g.name" :label="g.title" /></el-select></el-form-item></template>
      <label v-else class="file">CSV with a heading like number or userName <input type="file" name="people" accept=".csv,.json,.txt,text/csv,application/json"
          @change="(e) => (file = (e.target as HTMLInputElement).files?.[0])" /></label>
      <template v-if="who !== 'list'">
        <el-form-item label="Comes by"><el-select v-model="form.provider" clearable filterable placeholder="as last" aria-label="Provider that they come by">
          <el-option v-for="p in choices?.providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select></el-form-item>
        <el-form-item label="Authentication context"><el-input v-model="form.context" name="context" placeholder="as last" /></el-form-item>
        <el-form-item label="Address of their browser"><el-input v-model="form.network" name="network" placeholder="as last" />
          <div v-if="choices" class="quiet hint">yours is <code>{{ choices.browser.network }}</code><template v-if="choices.browser.proxied">, as the proxy
            {{ choices.browser.from }} says</template></div></el-form-item>
        <el-form-item label="Role that is asked for"><el-input v-model="form.role" name="role" placeholder="none" /></el-form-item>
        <el-form-item label="When they enter"><el-input v-model="form.at" name="at" placeholder="now, or like 2027-01-31T12:00" /></el-form-item>
      </template>
      <div class="tools"><el-button native-type="submit" :loading="busy" :disabled="!ready">Simulate</el-button></div>
    </el-form>
    <ProblemBox :problem="failed" />
    <JobProgress v-if="job && !ended?.entrants" :key="job.id" :job="job" @ended="ended = $event" />
    <EntrantTable v-if="ended?.entrants" :people="ended.entrants.items ?? []" />
    <template v-if="got">
      <p><strong :class="tones[got.decision]">{{ got.name ? `${got.name}: ` : '' }}{{ decisions[got.decision] }}</strong>
        <span v-if="got.finding"> – {{ got.finding.title }}. {{ got.finding.remedy }}</span><span v-else-if="got.why?.length"> – {{ got.why.join('; ') }}</span></p>
      <ol class="judged"><li v-for="(r, i) in got.rules ?? []" :key="i"><strong v-if="r.title">{{ r.title }}.</strong> {{ r.sentence }}
        <span v-if="i === decides" class="note">Decides<template v-if="r.why">: {{ r.why }}</template>.</span><span v-else-if="r.about" class="quiet">An earlier one decides.</span>
        <span v-else class="quiet">Not about them: {{ r.why }}.</span></li></ol>
      <ul v-if="got.roles?.length" class="judged"><li v-for="r in got.roles" :key="r.role"><strong>{{ r.title }}</strong> <code>{{ r.role }}</code>, {{ r.by }}
        <span v-if="r.enters" class="note">{{ got.choose ? 'May choose it' : `Sent: ${r.values?.join(', ')}` }}.</span><span v-else class="quiet">Not sent.</span></li></ul>
      <template v-if="got.decision !== 'deny' && got.released"><h3>What the application would be told</h3>
        <p v-if="got.released.refused" class="refused">{{ got.released.refused.title }}</p>
        <dl v-else class="told"><dt>Name</dt><dd><code>{{ got.released.name || 'none yet' }}</code></dd>
          <template v-for="v in got.released.released ?? []" :key="v.name"><dt>{{ v.friendlyName || v.name }}</dt><dd><code>{{ shown(v.values as never).join(', ') }}</code></dd></template></dl></template>
    </template>
  </section>
</template>

<style scoped>
.sheet { margin-top: 24px; padding: 12px 16px }
h2 { margin: 0 0 8px }
h3 { margin: 12px 0 4px; font-size: 14px }
.form { display: grid; grid-template-columns: repeat(4, minmax(0, 1fr)); gap: 0 16px }
.el-radio-group, .tools, .file { grid-column: 1 / -1 }
.file { display: grid; gap: 8px; margin: 8px 0 12px; font-weight: 600 }
.hint { font-size: 12px; line-height: 1.4 }
.judged li { margin: 4px 0 }
.told { display: grid; grid-template-columns: max-content 1fr; gap: 2px 16px; margin: 0 }
dd { margin: 0; overflow-wrap: anywhere }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
.note { color: var(--note); font-weight: 600 }
@media (max-width: 800px) { .form { grid-template-columns: 1fr } }
</style>
