<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Problem } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'

const props = defineProps<{ kind: 'provider' | 'application' }>()
const router = useRouter()
const isApp = computed(() => props.kind === 'application')
const what = computed(() => (isApp.value ? 'an application' : 'a provider'))
const form = ref({ name: '', title: '', address: '', metadata: '', provider: '', ownStart: '', allowUnsolicited: false })
const way = ref<'file' | 'address' | 'text'>('file')
const file = ref<{ name: string; base64: string }>()
const problem = ref<Problem>()
const busy = ref(false)
const wrong = (field: string) => {
  const message = problem.value?.errors?.find((e) => e.field === field)?.message
  return message ? (problem.value?.finding?.title ?? message) : ''
}

const { data: providers } = useLoad(() => (isApp.value ? take(api.GET('/api/v1/providers', { params: { query: { limit: 20000 } } })) : Promise.resolve(undefined)))

async function pick(e: Event) {
  const chosen = (e.target as HTMLInputElement).files?.[0]
  if (!chosen) return
  const octets = new Uint8Array(await chosen.arrayBuffer())
  let text = ''
  for (let i = 0; i < octets.length; i += 8192) text += String.fromCharCode(...octets.subarray(i, i + 8192))
  file.value = { name: chosen.name, base64: btoa(text) }
  if (form.value.name === '') form.value.name = chosen.name.replace(/\.[^.]*$/, '').toLowerCase().replace(/[^a-z0-9]+/g, '-').replace(/^-|-$/g, '')
}

function given() {
  if (way.value === 'address') return { address: form.value.address }
  if (way.value === 'text') return { metadata: form.value.metadata || ' ' }
  return file.value ? { metadataBase64: file.value.base64 || btoa(' ') } : { metadata: ' ' }
}

async function add() {
  busy.value = true
  problem.value = undefined
  const { name, title, provider, ownStart, allowUnsolicited } = form.value
  try {
    if (isApp.value) await take(api.POST('/api/v1/applications', { body: { name, title: title || undefined, provider: provider || undefined, ownStart: ownStart || undefined, ...given() } }))
    else await take(api.POST('/api/v1/providers', { body: { name, title: title || undefined, allowUnsolicited, ...given() } }))
    await router.push(`/connect/${props.kind}s/${name}`)
  } catch (e) {
    problem.value = e as Problem
    window.scrollTo({ top: 0 })
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="head">
    <div>
      <h1>Add {{ what }}</h1>
      <p>Everything is taken from the SAML metadata of the other side. Nothing is stored unless all of it is in order.</p>
    </div>
  </div>
  <ProblemBox :problem="problem" />
  <el-form label-position="top" class="sheet form" @submit.prevent="add">
    <el-form-item label="Short name" :error="wrong('name')">
      <el-input v-model="form.name" name="name" placeholder="crew-roster" />
      <div class="quiet hint">a-z, 0-9 and hyphen; it is part of addresses and never changes</div>
    </el-form-item>
    <el-form-item label="Metadata" :error="wrong('metadata') || wrong('address')">
      <el-radio-group v-model="way" aria-label="Where the metadata comes from">
        <el-radio value="file">File</el-radio>
        <el-radio value="address">Address</el-radio>
        <el-radio value="text">Text</el-radio>
      </el-radio-group>
      <input v-if="way === 'file'" type="file" name="file" aria-label="Metadata file" accept=".xml,.txt,.pem,application/xml,text/xml,application/samlmetadata+xml" @change="pick" />
      <el-input v-else-if="way === 'address'" v-model="form.address" name="address" placeholder="https://" aria-label="Metadata address" />
      <el-input v-else v-model="form.metadata" name="metadata" type="textarea" :rows="10" placeholder="<EntityDescriptor …" aria-label="Metadata text" />
    </el-form-item>
    <el-form-item label="Title"><el-input v-model="form.title" name="title" placeholder="taken from the metadata" /></el-form-item>
    <template v-if="isApp">
      <el-form-item label="Provider" :error="wrong('provider')">
        <el-select v-model="form.provider" clearable placeholder="decided by the routing" aria-label="Provider">
          <el-option v-for="p in providers?.items ?? []" :key="p.name" :label="p.title" :value="p.name" />
        </el-select>
      </el-form-item>
      <el-form-item label="Its own start address, if it accepts only sign-ins it started" :error="wrong('ownStart')"><el-input v-model="form.ownStart" name="ownStart" placeholder="https://" /></el-form-item>
    </template>
    <el-form-item v-else label="Answers that nobody asked for"><el-checkbox v-model="form.allowUnsolicited">Accept them: people may start at the provider</el-checkbox></el-form-item>
    <el-button type="primary" native-type="submit" :loading="busy">Add</el-button>
  </el-form>
</template>

<style scoped>
.form { padding: 16px 24px 24px; max-width: 720px }
.hint { width: 100%; font-size: 12px; line-height: 1.5 }
input[type='file'] { width: 100%; font: inherit; margin-top: 4px }
</style>
