<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Problem } from '../api/client'
import CopyValue from './CopyValue.vue'

/** What an OpenID or OAuth 2.0 provider gave: its issuer or endpoints, and how it knows the gate. */
const props = defineProps<{ plain: boolean; hand: boolean; redirect?: string; problem?: Problem; known?: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const typed = ref({ issuer: '', clientId: '', clientSecret: '', clientSecretEnds: '', authorize: '', token: '', userinfo: '',
  jwksUri: '', jwks: '', endSession: '' })
const identifier = ref('')
const scopes = ref('')
const authMethod = ref('')
const wrong = (...fields: string[]) => {
  const message = props.problem?.errors?.find((e) => fields.includes(e.field) || fields.includes(e.field.replace('settings.', '')))?.message
  return message ? (props.problem?.finding?.title ?? message) : ''
}
const bySecret = computed(() => !['private_key_jwt', 'none'].includes(authMethod.value))
const client = ['clientId', 'clientSecret', 'clientSecretEnds']

function given() {
  const own = Object.entries(typed.value).filter(([k, v]) => v.trim() !== '' && (props.hand || client.includes(k))
    && (bySecret.value || !k.startsWith('clientSecret')))
  return Object.fromEntries(own.map(([k, v]) => [k, ['jwks', 'clientSecret'].includes(k) ? v : v.trim().split(/\s+/).join(' ')]))
}
const settings = () => Object.fromEntries(Object.entries({ identifier: identifier.value.trim(), scopes: scopes.value.trim(),
  authMethod: authMethod.value }).filter(([, v]) => v !== ''))
defineExpose({ given, settings })
</script>

<template>
  <p v-if="!redirect && !known" class="quiet">Choose the short name first: the redirect URI, to be registered at the provider, is made with it.</p>
  <div v-if="redirect" class="sheet first">
    <p><strong>Redirect URI</strong> <span class="quiet">to be registered at the provider first; also called callback URL, reply address</span></p>
    <CopyValue :value="redirect" name="Redirect URI" />
  </div>
  <template v-if="hand">
    <el-form-item v-if="!plain" label="Issuer" :error="wrong('issuer', 'metadata', 'address')">
      <el-input v-model="typed.issuer" name="issuer" placeholder="https://" @input="emit('changed')" />
      <div class="quiet hint">also called authority, provider URL; its document is fetched and kept fresh. Compared letter by letter, a slash at the end too</div>
    </el-form-item>
    <template v-if="plain">
      <el-form-item label="Authorization endpoint" :error="wrong('authorize', 'metadata')">
        <el-input v-model="typed.authorize" name="authorize" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">where people sign in; also called authorize address</div></el-form-item>
      <el-form-item label="Token endpoint" :error="wrong('token')">
        <el-input v-model="typed.token" name="token" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">the gate calls it with the client secret; also called access token address</div></el-form-item>
      <el-form-item label="User-info endpoints" :error="wrong('userinfo')">
        <el-input v-model="typed.userinfo" name="userinfo" type="textarea" :rows="2" placeholder="https://, one on each line"
            @input="emit('changed')" />
        <div class="quiet hint">who somebody is; several, where one does not tell everything; also called profile address</div></el-form-item>
    </template>
  </template>
  <el-form-item v-if="plain && !known" label="Identifier member" :error="wrong('identifier')">
    <el-input v-model="identifier" name="identifier" placeholder="id" @input="emit('changed')" />
    <div class="quiet hint">member of what the user-info address says that identifies a person for good; not an e-mail address or login name, which others may get later</div>
  </el-form-item>
  <el-form-item label="Client ID" :error="wrong('clientId')">
    <el-input v-model="typed.clientId" name="clientId" :placeholder="known ? 'as it is' : 'that the provider gave the gate'"
        @input="emit('changed')" />
    <div class="quiet hint">also called application ID</div>
  </el-form-item>
  <el-form-item v-if="bySecret" label="Client secret" :error="wrong('clientSecret')">
    <el-input v-model="typed.clientSecret" name="clientSecret" type="password" autocomplete="off"
        :placeholder="known ? 'as it is' : 'its value, not its ID'" @input="emit('changed')" />
    <div class="quiet hint">kept sealed, and never shown again</div>
  </el-form-item>
  <details>
    <summary>When the secret ends, scopes, proof by key{{ hand && !plain ? ', single endpoints' : '' }}</summary>
    <el-form-item v-if="bySecret" label="The secret ends on" :error="wrong('clientSecretEnds')">
      <el-input v-model="typed.clientSecretEnds" name="clientSecretEnds" placeholder="2027-06-30" @input="emit('changed')" />
      <div class="quiet hint">noted, so that the gate tells of it 30 days ahead</div></el-form-item>
    <template v-if="!known">
      <el-form-item label="Scopes" :error="wrong('scopes')">
        <el-input v-model="scopes" name="scopes" :placeholder="plain ? 'none' : 'openid profile email'" @input="emit('changed')" /></el-form-item>
      <el-form-item label="How the gate proves who it is" :error="wrong('authMethod')">
        <el-select v-model="authMethod" aria-label="How the gate proves who it is" :empty-values="[null, undefined]" @change="emit('changed')">
          <el-option value="" label="with the client secret, as the provider offers it" />
          <el-option value="client_secret_basic" label="client_secret_basic: the secret in the header" />
          <el-option value="client_secret_post" label="client_secret_post: the secret in the form" />
          <el-option value="private_key_jwt" label="private_key_jwt: with a key of the gate" />
          <el-option value="none" label="none: PKCE alone" />
        </el-select></el-form-item>
    </template>
    <template v-if="hand && !plain">
      <p class="quiet hint">Where the issuer has no document that can be fetched, its endpoints can be typed.</p>
      <el-form-item label="Authorization endpoint" :error="wrong('authorize')">
        <el-input v-model="typed.authorize" name="authorize" placeholder="https://" @input="emit('changed')" /></el-form-item>
      <el-form-item label="Token endpoint" :error="wrong('token')">
        <el-input v-model="typed.token" name="token" placeholder="https://" @input="emit('changed')" /></el-form-item>
      <el-form-item label="User-info endpoint" :error="wrong('userinfo')">
        <el-input v-model="typed.userinfo" name="userinfo" placeholder="https://" @input="emit('changed')" /></el-form-item>
      <el-form-item label="JWKS" :error="wrong('jwksUri')">
        <el-input v-model="typed.jwksUri" name="jwksUri" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">address of its keys; asked every hour, and when a key is missing</div></el-form-item>
      <el-form-item label="Keys it signs with" :error="wrong('jwks')">
        <el-input v-model="typed.jwks" name="jwks" type="textarea" :rows="3" placeholder="JWK Set or PEM, if they lie at no address"
            @input="emit('changed')" /></el-form-item>
      <el-form-item label="End-session endpoint" :error="wrong('endSession')">
        <el-input v-model="typed.endSession" name="endSession" placeholder="https://" @input="emit('changed')" />
        <div class="quiet hint">where it signs people out</div></el-form-item>
    </template>
  </details>
</template>

<style scoped>
.first { padding: 12px 16px; margin-bottom: 16px; border-left: 4px solid var(--gate) }
.first p { margin: 0 0 4px }
details { margin-bottom: 16px }
summary { cursor: pointer; margin-bottom: 8px }
.hint { width: 100%; font-size: 12px; line-height: 1.5 }
</style>
