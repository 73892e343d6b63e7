<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Given, Problem } from '../api/client'
import ClientForm from './ClientForm.vue'
import ReliedForm from './ReliedForm.vue'

/** What the other side handed over: a file, an address, pasted text, or values typed by hand. */
const props = defineProps<{ kind: 'provider' | 'application'; protocol?: string; problem?: Problem; known?: boolean
  redirect?: string }>()
const emit = defineEmits<{ large: [file: File]; named: [name: string]; changed: [] }>()

const way = ref<'file' | 'address' | 'text' | 'hand'>('file')
const isClient = computed(() => props.protocol === 'oidc' && props.kind === 'application')
/** A provider that the gate relies on as its client. */
const isRelied = computed(() => props.kind === 'provider' && ['oidc', 'oauth2'].includes(props.protocol ?? ''))
const plain = computed(() => props.protocol === 'oauth2')
watch([isClient, isRelied], ([a, b]) => { way.value = a || b ? 'hand' : 'file' }, { immediate: true })
const client = ref<InstanceType<typeof ClientForm>>()
const relied = ref<InstanceType<typeof ReliedForm>>()
const address = ref('')
const text = ref('')
const link = ref('')
const file = ref<{ name: string; base64: string }>()
const typed = ref({ entityId: '', ssoRedirect: '', ssoPost: '', acs: '', acsArtifact: '', certificate: '',
  nextCertificate: '', encryptionCertificate: '', nameIdFormat: '' })
const formats = ['1.1:nameid-format:emailAddress', '2.0:nameid-format:persistent', '2.0:nameid-format:transient',
  '1.1:nameid-format:unspecified'].map((f) => `urn:oasis:names:tc:SAML:${f}`)
const wrong = (...fields: string[]) => {
  const message = props.problem?.errors?.find((e) => fields.includes(e.field))?.message
  return message ? (props.problem?.finding?.title ?? message) : ''
}

let reading = Promise.resolve()
function pick(e: Event) {
  const chosen = (e.target as HTMLInputElement).files?.[0]
  if (!chosen) return
  emit('changed')
  if (chosen.size > 1 << 20) emit('large', chosen)
  else reading = read(chosen)
}
async function read(chosen: File) {
  const octets = new Uint8Array(await chosen.arrayBuffer())
  let out = ''
  for (let i = 0; i < octets.length; i += 8192) out += String.fromCharCode(...octets.subarray(i, i + 8192))
  file.value = { name: chosen.name, base64: btoa(out) }
  emit('named', chosen.name.replace(/\.[^.]*$/, '').toLowerCase().replace(/[^a-z0-9]+/g, '-').replace(/^-|-$/g, ''))
}

async function given(): Promise<Given> {
  await reading
  if (isRelied.value) return { ...(way.value === 'hand' ? {} : document()), typed: relied.value!.given() }
  if (props.protocol === 'link') return { typed: { link: link.value || ' ' } }
  if (isClient.value && way.value === 'hand') return { typed: client.value!.given() }
  if (way.value === 'hand') return { typed: Object.fromEntries(Object.entries(typed.value).filter(([, v]) => v !== '')) }
  return document()
}
function document(): Given {
  switch (way.value) {
    case 'address':
      return { address: address.value || ' ' }
    case 'text':
      return { metadata: text.value || ' ' }
  }
  return file.value ? { metadataBase64: file.value.base64 || btoa(' ') } : { metadata: ' ' }
}
/** Settings that are asked for with it. */
const settings = (): Record<string, string> => relied.value?.settings() ?? {}
defineExpose({ given, settings })
</script>

<template>
  <el-form-item v-if="protocol === 'link'" label="Address" :error="wrong('link', 'metadata')">
    <el-input v-model="link" name="link" placeholder="https://" @input="emit('changed')" />
    <div class="quiet hint">where people are sent once they are signed in; nothing is told about them</div>
  </el-form-item>
  <template v-else>
  <el-form-item v-if="!plain" label="What the other side handed over" :error="wrong('metadata', 'address', 'metadataBase64')">
    <el-radio-group v-model="way" aria-label="How it came" @change="emit('changed')">
      <el-radio value="file">File</el-radio>
      <el-radio value="address">Address</el-radio>
      <el-radio value="text">Text</el-radio>
      <el-radio value="hand">{{ isRelied ? 'Issuer, or single values' : 'Single values' }}</el-radio>
    </el-radio-group>
    <input v-if="way === 'file'" type="file" name="file" aria-label="Metadata file"
        accept=".xml,.json,.txt,.pem,.crt,.cer,.der,application/xml,text/xml,application/samlmetadata+xml" @change="pick" />
    <template v-else-if="way === 'address'">
      <el-input v-model="address" name="address" placeholder="https://" aria-label="Metadata address"
          @input="emit('changed')" />
      <div class="quiet hint">the gate asks it again by itself, as often as the metadata says</div>
    </template>
    <el-input v-else-if="way === 'text'" v-model="text" name="metadata" type="textarea" :rows="10"
        :placeholder="isClient ? '{&quot;redirect_uris&quot;: …' : isRelied ? '{&quot;issuer&quot;: …' : '<EntityDescriptor …'" aria-label="Metadata text" @input="emit('changed')" />
  </el-form-item>
  <ReliedForm v-if="isRelied" ref="relied" :plain="plain" :hand="way === 'hand'" :redirect="redirect" :problem="problem" :known="known"
      @changed="emit('changed')" />
  <ClientForm v-else-if="isClient && way === 'hand'" ref="client" :problem="problem" :known="known" @changed="emit('changed')" />
  <template v-else-if="way === 'hand'">
    <el-form-item label="Entity ID" :error="wrong('entityId')"><el-input v-model="typed.entityId" name="entityId"
        @input="emit('changed')" /><div class="quiet hint">also called
          {{ kind === 'provider' ? 'issuer, IdP entity ID' : 'SP entity ID, audience, identifier' }}; compared letter
            by letter</div></el-form-item>
    <template v-if="kind === 'provider'">
      <el-form-item label="SingleSignOnService by HTTP-Redirect" :error="wrong('ssoRedirect')">
        <el-input v-model="typed.ssoRedirect" name="ssoRedirect" placeholder="https://" @input="emit('changed')" />
          <div class="quiet hint">also called SSO URL, sign-in address, login URL</div></el-form-item>
      <el-form-item label="SingleSignOnService by HTTP-POST" :error="wrong('ssoPost')">
        <el-input v-model="typed.ssoPost" name="ssoPost" placeholder="https://" @input="emit('changed')" />
        </el-form-item>
    </template>
    <el-form-item v-else label="AssertionConsumerService by HTTP-POST" :error="wrong('acs')">
      <el-input v-model="typed.acs" name="acs" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">also called ACS URL, reply address, recipient</div></el-form-item>
    <el-form-item v-if="kind === 'application'" label="AssertionConsumerService by HTTP-Artifact"
        :error="wrong('acsArtifact')"><el-input v-model="typed.acsArtifact" name="acsArtifact" placeholder="https://"
            @input="emit('changed')" /></el-form-item>
    <el-form-item label="Signing certificate" :error="wrong('certificate')"><el-input v-model="typed.certificate"
        name="certificate" type="textarea" :rows="5" placeholder="-----BEGIN CERTIFICATE-----" @input="emit('changed')"
            /></el-form-item>
    <details>
      <summary>Further certificates</summary>
      <el-form-item label="Next signing certificate" :error="wrong('nextCertificate')"><el-input
          v-model="typed.nextCertificate" name="nextCertificate" type="textarea" :rows="4"
              placeholder="-----BEGIN CERTIFICATE-----" @input="emit('changed')" />
        <div class="quiet hint">stands beside the present one, for a roll-over</div></el-form-item>
      <el-form-item v-if="kind === 'application'" label="Certificate to encrypt to"
          :error="wrong('encryptionCertificate')"><el-input v-model="typed.encryptionCertificate"
              name="encryptionCertificate" type="textarea" :rows="4" placeholder="-----BEGIN CERTIFICATE-----"
                  @input="emit('changed')" /></el-form-item>
    </details>
    <el-form-item label="NameID format"><el-select v-model="typed.nameIdFormat" clearable placeholder="not said"
        aria-label="NameID format" @change="emit('changed')"><el-option v-for="f in formats" :key="f" :value="f"
            :label="f.slice(f.lastIndexOf(':') + 1)" /></el-select></el-form-item>
  </template>
  </template>
</template>

<style scoped>
summary { cursor: pointer; margin-bottom: 8px }
.hint { width: 100%; font-size: 12px; line-height: 1.5 }
input[type='file'] { width: 100%; font: inherit; margin-top: 4px }
</style>
