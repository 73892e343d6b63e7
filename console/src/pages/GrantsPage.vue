<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, because, take, type Schemas } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import ShownOnce from '../components/ShownOnce.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { ago, local } from '../composables/words'

const props = defineProps<{ name: string }>()
const path = () => ({ path: { name: props.name } })
const { data: app, problem, load } = useLoad(() => take(api.GET('/api/v1/applications/{name}', { params: path() })), () => props.name)
const { data: grants, load: loadGrants } = useLoad(() => take(api.GET('/api/v1/applications/{name}/grants',
  { params: { ...path(), query: { limit: 200 } } })), () => props.name)
const { data: consents, load: loadConsents } = useLoad(() => take(api.GET('/api/v1/applications/{name}/consents',
  { params: { ...path(), query: { limit: 200 } } })), () => props.name)
const { busy, failed, act } = useAct({ done: () => Promise.all([load(), loadGrants(), loadConsents()]) })

const facts = (label: string) => (app.value?.facts ?? []).filter((f) => f.label === label).map((f) => f.value)
const method = computed(() => facts('Client authentication')[0] ?? '')
const bySecret = computed(() => method.value.startsWith('client_secret'))
const secrets = computed(() => facts('Client secret'))
const overlap = ref('7d')
const life = ref('')
const why = ref('')
const made = ref<Schemas['Rotated']>()
const rotate = (end: boolean) => act(async () => {
  made.value = await because(why.value, () => take(api.POST('/api/v1/applications/{name}/secret', { params: path(),
    body: { revision: app.value!.revision, overlap: overlap.value || '0', life: life.value || undefined, end: end || undefined } })))
  why.value = ''
})
const withdraw = (person: number) => act(async () => {
  await take(api.DELETE('/api/v1/applications/{name}/consents/{person}', { params: { path: { name: props.name, person } } }))
})
const endings: Record<string, string> = { idle: 'not used for too long', aged: 'its sign-in is too long ago', 'code-twice': 'the code was redeemed twice', 'code-misused': 'the code was redeemed with another redirect URI or verifier',
  'token-twice': 'a refresh token was used that was replaced long ago', revoked: 'revoked by the application', withdrawn: 'withdrawn',
  'signed-out': 'the person signed out', 'code-not-used': 'the code was not redeemed in time' }
</script>

<template>
  <div class="head">
    <div>
      <h1>Secrets and grants of {{ name }}</h1>
      <p>How <router-link :to="`/connect/applications/${name}`">{{ name }}</router-link> proves who it is, what people agreed to
        that it may be told, and what their sign-ins gave it.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <h2>Client authentication</h2>
  <p v-if="!bySecret">By <code>{{ method }}</code>; there is no secret.</p>
  <template v-else>
    <p>By <code>{{ method }}</code>, with {{ secrets.length === 1 ? 'one secret' : `${secrets.length} secrets` }}, the newest last. Of a secret only its SHA-256 is kept.</p>
    <ul><li v-for="s in secrets" :key="s"><code>{{ s }}</code></li></ul>
    <ShownOnce v-if="made?.clientSecret" :title="`The next secret of ${name}.`" :id="made.clientId" :secret="made.clientSecret" />
    <form class="tools" @submit.prevent="rotate(false)">
      <label>those of before stay good for <el-input v-model="overlap" name="overlap" aria-label="Overlap" style="width: 80px" /></label>
      <label>the next one is good for <el-input v-model="life" name="life" aria-label="Life of the next one" placeholder="ever"
          style="width: 80px" /></label>
      <el-input v-model="why" name="why" placeholder="Why (optional)" aria-label="Why" style="width: 200px" />
      <el-button type="primary" native-type="submit" :loading="busy">Make the next secret</el-button>
      <el-button v-if="secrets.length > 1" :loading="busy" @click="rotate(true)">End those of before now</el-button>
    </form>
  </template>
  <h2>Consents</h2>
  <el-table :data="consents?.items ?? []" empty-text="Nobody was asked, or agreed, yet.">
    <el-table-column label="Person" min-width="150"><template #default="{ row }">
      <router-link :to="`/admit/people/${row.person}`">{{ row.name || row.person }}</router-link></template></el-table-column>
    <el-table-column label="Agreed to" min-width="300"><template #default="{ row }"><code>{{ row.scopes.join(' ') }}</code></template>
    </el-table-column>
    <el-table-column label="At" width="200"><template #default="{ row }"><time :title="row.at">{{ local(row.at) }}</time></template>
    </el-table-column>
    <el-table-column label="Withdraw" width="120"><template #default="{ row }">
      <el-button size="small" @click="withdraw(row.person)">Withdraw</el-button></template></el-table-column>
  </el-table>
  <h2>Grants</h2>
  <el-table :data="grants?.items ?? []" empty-text="No sign-in has given it anything that is still kept.">
    <el-table-column label="State" min-width="190"><template #default="{ row }">
      <span v-if="row.ended" class="quiet">○ {{ endings[row.ended] ?? row.ended }}</span><span v-else class="passed">● good</span>
    </template></el-table-column>
    <el-table-column label="Person" min-width="150"><template #default="{ row }">
      <router-link v-if="row.person" :to="`/admit/people/${row.person}`">{{ row.name || row.person }}</router-link>
      <span v-else class="quiet">passing</span></template></el-table-column>
    <el-table-column label="Scopes" min-width="220"><template #default="{ row }"><code>{{ row.scopes.join(' ') }}</code></template></el-table-column>
    <el-table-column label="Lasts" width="170"><template #default="{ row }">{{ row.offline ? 'beyond the session' : 'with the session' }}</template>
    </el-table-column>
    <el-table-column label="Sign-in" width="120"><template #default="{ row }">
      <router-link v-if="row.trace" :to="`/watch/traces/${row.trace}`"><time :title="local(row.began)">{{ ago(row.began) }}</time></router-link>
      <time v-else :title="local(row.began)">{{ ago(row.began) }}</time></template></el-table-column>
  </el-table>
  <p v-if="grants && (grants.items?.length ?? 0) < grants.total" class="quiet">The latest {{ grants.items?.length }} of {{ grants.total }}.</p>
</template>

<style scoped>
ul { margin: 0 0 12px; padding-left: 20px }
label { display: inline-flex; gap: 8px; align-items: center }
</style>
