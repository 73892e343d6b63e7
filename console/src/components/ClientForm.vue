<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Problem } from '../api/client'

/** Values of an OpenID Connect application, typed by hand. */
const props = defineProps<{ problem?: Problem; known?: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const kinds = [
  { value: 'web', label: 'Web: runs on a server, and keeps a secret' },
  { value: 'browser', label: 'Browser: runs in the browser alone, keeps no secret' },
  { value: 'native', label: 'Native: a desktop program or a command' },
  { value: 'service', label: 'Service: acts for itself, nobody signs in to it' },
]
const typed = ref({ kind: props.known ? '' : 'web', redirectUris: '', postLogoutRedirectUris: '', clientId: '', clientSecret: '',
  jwks: '', jwksUri: '', backchannelLogoutUri: '', initiateLoginUri: '' })
const people = computed(() => typed.value.kind !== 'service')
const secret = computed(() => ['web', 'service', ''].includes(typed.value.kind))
const wrong = (...fields: string[]) => props.problem?.errors?.find((e) => fields.includes(e.field))?.message ?? ''
const redirects = computed(() => ({ native: 'of 127.0.0.1 and [::1] any port is taken; or a scheme like example.wrenmoor.app:/back',
  browser: 'its page; programs of its origin may call the gate' }[typed.value.kind] ?? 'compared letter by letter'))

function given() {
  const own = Object.entries(typed.value).filter(([k, v]) => v.trim() !== ''
    && (people.value || !['redirectUris', 'postLogoutRedirectUris', 'backchannelLogoutUri', 'initiateLoginUri'].includes(k))
    && (secret.value || !['clientSecret', 'jwks', 'jwksUri'].includes(k)))
  return Object.fromEntries(own.map(([k, v]) => [k, k === 'jwks' ? v : v.trim().split(/\s+/).join(' ')]))
}
defineExpose({ given })
</script>

<template>
  <el-form-item label="Kind" :error="wrong('kind')">
    <el-select v-model="typed.kind" aria-label="Kind" :placeholder="known ? 'as it is' : ''" :clearable="known" @change="emit('changed')">
      <el-option v-for="k in kinds" :key="k.value" :value="k.value" :label="k.label" />
    </el-select>
  </el-form-item>
  <el-form-item v-if="people" label="Redirect URIs" :error="wrong('redirectUris', 'metadata')">
    <el-input v-model="typed.redirectUris" name="redirectUris" type="textarea" :rows="2" placeholder="https://, one on each line"
        @input="emit('changed')" />
    <div class="quiet hint">also called callback URL, reply address; {{ redirects }}</div>
  </el-form-item>
  <el-form-item label="Client ID" :error="wrong('clientId')">
    <el-input v-model="typed.clientId" name="clientId" :placeholder="known ? 'as it is' : 'made, if the application has none yet'"
        @input="emit('changed')" />
  </el-form-item>
  <el-form-item v-if="secret" label="Client secret" :error="wrong('clientSecret')">
    <el-input v-model="typed.clientSecret" name="clientSecret" type="password" autocomplete="off"
        :placeholder="known ? 'as it is' : 'made, and shown once, if the application has none yet'" @input="emit('changed')" />
  </el-form-item>
  <details>
    <summary>Signing out, starting at the gate, keys</summary>
    <template v-if="people">
      <el-form-item label="Post-logout redirect URIs" :error="wrong('postLogoutRedirectUris')">
        <el-input v-model="typed.postLogoutRedirectUris" name="postLogoutRedirectUris" type="textarea" :rows="2"
            placeholder="https://, one on each line" @input="emit('changed')" />
        <div class="quiet hint">where it may send people after signing out</div></el-form-item>
      <el-form-item label="Back-channel logout URI" :error="wrong('backchannelLogoutUri')">
        <el-input v-model="typed.backchannelLogoutUri" name="backchannelLogoutUri" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">the gate tells it there that somebody has signed out elsewhere</div></el-form-item>
      <el-form-item label="Initiate login URI" :error="wrong('initiateLoginUri')">
        <el-input v-model="typed.initiateLoginUri" name="initiateLoginUri" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">where it starts a sign-in when somebody opens it at the gate</div></el-form-item>
    </template>
    <template v-if="secret">
      <el-form-item label="Keys it signs with" :error="wrong('jwks')">
        <el-input v-model="typed.jwks" name="jwks" type="textarea" :rows="4" placeholder="JWK, JWK Set, or PEM" @input="emit('changed')" />
        <div class="quiet hint">instead of a secret: private_key_jwt</div></el-form-item>
      <el-form-item label="Address of its JWK Set" :error="wrong('jwksUri')">
        <el-input v-model="typed.jwksUri" name="jwksUri" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">asked every hour, and when a key is missing</div></el-form-item>
    </template>
  </details>
</template>

<style scoped>
details { margin-bottom: 16px }
summary { cursor: pointer; margin-bottom: 8px }
.hint { width: 100%; font-size: 12px; line-height: 1.5 }
</style>
