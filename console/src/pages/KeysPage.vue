<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take } from '../api/client'
import CopyValue from '../components/CopyValue.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { days, localDate } from '../composables/words'

const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/keys')))
const { failed, act } = useAct({ always: load })
const words: Record<string, string> = { idp: 'Signs answers for applications', sp: 'Signs requests to providers',
  enc: 'Providers encrypt to it', 'idp-ecdsa': 'Signs answers for applications that verify ECDSA',
  'oidc-rs256': 'Signs tokens with RS256', 'oidc-es256': 'Signs tokens with ES256', 'oidc-eddsa': 'Signs tokens with EdDSA',
  'oidc-client': 'Proves to providers who the gate is' }
const tone: Record<string, string> = { current: 'passed', next: 'waiting', old: 'quiet' }
const groups = computed(() => {
  const by = new Map<string, NonNullable<NonNullable<typeof data.value>['items']>>()
  for (const k of data.value?.items ?? []) by.set(k.purpose, [...(by.get(k.purpose) ?? []), k])
  return [...by].map(([purpose, keys]) => {
    const unused = keys.every((k) => k.state === 'unused')
    const title = words[purpose] ?? (unused ? 'Of an application that has no face of its own any more'
      : `Signs answers for ${purpose.slice(4)}, on its own face`)
    return { purpose, keys, title, unused, next: keys.some((k) => k.state === 'next') }
  })
})

const kind = ref('rsa-2048')
const ecdsa = 'idp-ecdsa'
const cannot = (purpose: string) => // be of the kind that is chosen: then the gate makes the one that it can be of
  [ecdsa, 'oidc-es256', 'oidc-eddsa'].includes(purpose) || ['enc', 'oidc-rs256'].includes(purpose) && kind.value.startsWith('ec')
const announce = (purpose: string) =>
  act(() => take(api.POST('/api/v1/keys', { body: { purpose, kind: cannot(purpose) ? '' : kind.value } })))
const make = () => act(async () => { // it signs for nobody until an application is set to it
  await take(api.POST('/api/v1/keys', { body: { purpose: ecdsa, kind: 'ec-p256' } }))
  return take(api.POST('/api/v1/keys/switch', { body: { purpose: ecdsa } }))
})
const change = (purpose: string) => act(() => take(api.POST('/api/v1/keys/switch', { body: { purpose } })))
const remove = (id: number) => act(() => take(api.DELETE('/api/v1/keys/{id}', { params: { path: { id } } })))
</script>

<template>
  <div class="head">
    <div>
      <h1>Keys</h1>
      <p>The gate's own keys. To roll one over: announce the next, give the other sides time to take in the metadata
        that holds both, then switch.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools">
    <span id="kind">Kind of the next key</span>
    <el-select v-model="kind" aria-label="Kind of the next key" style="width: 160px">
      <el-option v-for="k in ['rsa-2048', 'rsa-3072', 'rsa-4096', 'ec-p256', 'ec-p384']" :key="k" :value="k" :label="k"
          /></el-select>
    <span class="quiet">where a purpose can be of another kind only, it is of that</span>
  </div>
  <section v-for="g in groups" :key="g.purpose">
    <h2>{{ g.title }} <code class="quiet">{{ g.purpose }}</code></h2>
    <ul class="sheet">
      <li v-for="k in g.keys" :key="k.id">
        <strong :class="tone[k.state]">{{ k.state }}</strong>
        <div class="facts">
          {{ k.certificate.key }}, {{ localDate(k.certificate.notBefore!) }} to
            {{ localDate(k.certificate.notAfter!) }}, ends {{ days(k.certificate.notAfter!) }}
          <CopyValue :value="k.certificate.sha256 ?? ''" name="SHA-256 fingerprint" />
        </div>
        <el-button v-if="k.state !== 'current'" size="small" @click="remove(k.id)">Remove</el-button>
      </li>
    </ul>
    <p v-for="k in g.keys.filter((k) => k.verifiers?.length)" :key="k.id">
      It signs with RSA. {{ k.verifiers!.join(', ') }} announced that
      {{ k.verifiers!.length > 1 ? 'they verify' : 'it verifies' }} ECDSA, which takes a twentieth of the work.
      <template v-if="g.purpose === 'idp'">
        <template v-if="groups.some((o) => o.purpose === ecdsa)">See that the application has the certificate of
          <code>{{ ecdsa }}</code>, then set <em>Signed by</em> to ecdsa-sha256 on it.</template>
        <template v-else>First make the key: the metadata of the shared face holds it from then on, and nobody is signed
          for by it yet. <el-button size="small" @click="make">Make the key for ECDSA</el-button></template>
      </template>
      <template v-else>Announce a next key of kind ec-p256 where all of them verify it.</template>
    </p>
    <p v-if="!g.unused" class="tools">
      <el-button v-if="!g.next" size="small" @click="announce(g.purpose)">Announce the next key</el-button>
      <el-button v-else size="small" type="primary" @click="change(g.purpose)">Switch to the next key</el-button>
    </p>
  </section>
</template>

<style scoped>
ul { list-style: none; margin: 0 0 8px; padding: 0 }
li { display: flex; gap: 24px; align-items: center; padding: 10px 16px; border-bottom: 1px solid var(--line) }
li:last-child { border-bottom: 0 }
li > strong { width: 70px }
.facts { flex: 1; min-width: 0; display: flex; flex-direction: column; gap: 2px }
</style>
