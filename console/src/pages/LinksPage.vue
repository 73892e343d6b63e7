<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Link } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { usePreview } from '../composables/preview'
import { local, short } from '../composables/words'

const route = useRoute()
const router = useRouter()
const provider = computed(() => (typeof route.query.provider === 'string' ? route.query.provider : ''))
const person = computed(() => Number(route.query.person) || undefined)
const narrow = (query: Record<string, string | number | undefined>) =>
  router.replace({ query: { ...route.query, ...query } })
const sources = useLoad(() => take(api.GET('/api/v1/links/providers')))
const names = useLoad(() => take(api.GET('/api/v1/providers')))
const older = ref<Link[]>([])
const ask = (after?: string) =>
  take(api.GET('/api/v1/links', { params: { query: { provider: provider.value || undefined, person: person.value,
  limit: 100, after } } }))
const { data, problem, load } = useLoad(() => { older.value = []; return ask() }, () => [provider.value, person.value])
const all = computed(() => [...(data.value?.items ?? []), ...older.value])
async function more() {
  older.value = [...older.value, ...((await ask(all.value.at(-1)?.key)).items ?? [])]
}

const from = ref('')
const to = ref('')
const { why, seen, done, failed, run: carry, forget } = usePreview(
  (how) => take(api.POST('/api/v1/links/carry', { body: { from: from.value, to: to.value, ...how } })),
  () => Promise.all([load(), sources.load()]))
watch([from, to], forget)
const called = (p: { name?: string; id: string; removed?: string }) =>
  (p.removed || !p.name ? `${p.name ?? p.id} (removed)` : p.name)
</script>

<template>
  <div class="head">
    <div>
      <h1>Links</h1>
      <p>By which name a provider lets a person in. Links belong to a provider, not to its short name: another provider
        under that name inherits nobody. Carry them over where it should.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? sources.problem.value ?? failed" />
  <div class="both">
    <section>
      <div class="tools">
        <router-link class="filter" :class="{ here: !provider }"
            :to="{ query: { ...route.query, provider: undefined } }">all</router-link>
        <router-link v-for="p in sources.data.value?.items ?? []" :key="p.id" class="filter"
            :class="{ here: p.id === provider }" :to="{ query: { ...route.query, provider: p.id } }">{{ called(p) }} ·
              {{ p.links }}</router-link>
        <router-link v-if="person" class="filter here" :to="{ query: { ...route.query, person: undefined } }">person
          {{ person }} ✕</router-link>
        <span v-if="data" class="quiet">{{ data.total }} {{ data.total === 1 ? 'link' : 'links' }}</span>
      </div>
      <el-table :data="all" empty-text="Nobody is linked so.">
        <el-table-column label="Person" width="90"><template #default="{ row }">
          <a href="#" title="All links of this person"
              @click.prevent="narrow({ person: row.person })">{{ row.person }}</a></template></el-table-column>
        <el-table-column label="Name" min-width="220"><template #default="{ row }">
          <code v-if="row.subject">{{ row.subject.value }}</code><span v-else class="quiet">not kept until they sign in
            again</span></template></el-table-column>
        <el-table-column label="Format" width="130"><template #default="{ row }">
          <span :title="row.subject?.format">{{ short(row.subject?.format ?? '') }}</span></template></el-table-column>
        <el-table-column label="Provider" min-width="170"><template #default="{ row }">
          <router-link v-if="row.provider.name && !row.provider.removed"
              :to="`/connect/providers/${row.provider.name}`">{{ row.provider.name }}</router-link>
                <span v-else class="quiet">{{ called(row.provider) }}</span></template></el-table-column>
        <el-table-column label="Linked" width="190"><template #default="{ row }">
          <time v-if="row.added" :title="row.added">{{ local(row.added) }}</time></template></el-table-column>
      </el-table>
      <p v-if="data && all.length < data.total" class="tools"><el-button @click="more">Show more</el-button></p>
    </section>
    <form class="sheet" @submit.prevent="carry()">
      <h2>Carry over</h2>
      <span>Who is linked to</span>
      <el-select v-model="from" aria-label="From" filterable placeholder="Provider, on record or removed">
        <el-option v-for="p in sources.data.value?.items ?? []" :key="p.id" :value="p.id" :label="called(p)" />
        </el-select>
      <span>is let in, by the same name, by</span>
      <el-select v-model="to" aria-label="To" filterable placeholder="Provider on record">
        <el-option v-for="p in names.data.value?.items ?? []" :key="p.name" :value="p.name" :label="p.name" />
        </el-select>
      <el-button native-type="submit" :disabled="!from || !to">Preview</el-button>
      <div v-if="seen" role="status">
        <p><strong>{{ seen.links }}</strong> would be carried over; {{ seen.already }} are there already.</p>
        <p v-if="seen.unnamed">{{ seen.unnamed }} were made before names were kept: they can follow once the person has
          signed in again.</p>
        <p v-if="seen.taken?.length">{{ seen.taken.length }} names belong to other people there, and stay theirs: <code
            v-for="l in seen.taken.slice(0, 5)" :key="l.subject?.value">{{ l.subject?.value }} </code></p>
        <el-input v-model="why" name="why" placeholder="Why (kept in the history)" aria-label="Why" />
        <el-button type="primary" :disabled="!seen.links" @click="carry(seen.digest)">Carry over</el-button>
      </div>
      <p v-if="done" role="status"><strong class="passed">{{ done.links }} links carried over.</strong></p>
    </form>
  </div>
</template>

<style scoped>
.both { display: grid; grid-template-columns: minmax(0, 7fr) minmax(260px, 2fr); gap: 16px; align-items: start }
section { min-width: 0 }
form { padding: 16px }
form, form [role=status] { display: grid; grid-template-columns: minmax(0, 1fr); gap: 8px }
form h2 { margin: 0 }
form p { margin: 0 }
@media (max-width: 1100px) { .both { grid-template-columns: 1fr } }
</style>
