<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type KnownSubject } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'
import { usePreview } from '../composables/preview'
import { local } from '../composables/words'

const props = defineProps<{ name: string }>()
const older = ref<KnownSubject[]>([])
const ask = (after?: number) => take(api.GET('/api/v1/applications/{name}/subjects',
  { params: { path: { name: props.name }, query: { after, limit: 100 } } }))
const { data, problem, load } = useLoad(() => { older.value = []; return ask() }, () => props.name)
const all = computed(() => [...(data.value?.items ?? []), ...older.value])
async function more() {
  older.value = [...older.value, ...((await ask(all.value.at(-1)?.person)).items ?? [])]
}

const csv = ref('')
const replace = ref(false)
const { why, seen, done, failed, run: put, forget } = usePreview(
  (how) => take(api.POST('/api/v1/applications/{name}/subjects', { params: { path: { name: props.name } },
    body: { csv: csv.value, replace: replace.value, ...how } })),
  () => { csv.value = ''; return load() })
watch([csv, replace], forget)
async function read(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (file) csv.value = await file.text()
}
</script>

<template>
  <div class="head">
    <div>
      <h1>Subjects of {{ name }}</h1>
      <p>The lasting names by which <router-link :to="`/connect/applications/${name}`">{{ name }}</router-link> knows
        people, told to it in the format <em>persistent</em>. The gate derives one at the first sign-in and keeps it;
          an application that knew people before keeps its own values when they are imported.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="both">
    <section>
      <el-table :data="all" empty-text="It knows nobody by a lasting name yet.">
        <el-table-column label="Person" width="90"><template #default="{ row }">
          <router-link :to="{ path: '/keep/links', query: { person: row.person } }">{{ row.person }}</router-link>
          </template></el-table-column>
        <el-table-column label="Value" min-width="260"><template #default="{ row }"><code>{{ row.value }}</code>
        </template></el-table-column>
        <el-table-column prop="source" label="Source" width="110" />
        <el-table-column label="Since" width="190"><template #default="{ row }">
          <time :title="row.added">{{ local(row.added) }}</time></template></el-table-column>
      </el-table>
      <p v-if="data && all.length < data.total" class="tools">
        <span class="quiet">{{ all.length }} of {{ data.total }}</span><el-button @click="more">Show more</el-button>
        </p>
    </section>
    <form class="sheet" @submit.prevent="put()">
      <h2>Import</h2>
      <label for="csv">CSV; the first line names the columns: <code>provider,name,value</code> and, if wanted,
        <code>format</code></label>
      <el-input id="csv" v-model="csv" name="csv" type="textarea" :rows="8" class="mono"
          placeholder="provider,name,value" />
      <input type="file" accept=".csv,text/csv" aria-label="CSV file" @change="read">
      <el-checkbox v-model="replace" name="replace">Replace what is there already</el-checkbox>
      <el-button native-type="submit" :disabled="!csv.trim()">Preview</el-button>
      <div v-if="seen" role="status">
        <p><strong>{{ seen.subjects }}</strong> would be imported, {{ seen.replaced }} of them in place of another
          value; {{ seen.already }} are there already. {{ seen.people }} {{ seen.people === 1 ? 'person' : 'people' }}
            would be made.</p>
        <el-input v-model="why" name="why" placeholder="Why (kept in the history)" aria-label="Why" />
        <el-button type="primary" :disabled="!seen.subjects" @click="put(seen.digest)">Import</el-button>
      </div>
      <p v-if="done" role="status"><strong class="passed">{{ done.subjects }}
        {{ done.subjects === 1 ? 'subject' : 'subjects' }} imported.</strong></p>
    </form>
  </div>
</template>

<style scoped>
.both { display: grid; grid-template-columns: minmax(0, 5fr) minmax(280px, 2fr); gap: 16px; align-items: start }
section { min-width: 0 }
form { padding: 16px }
form, form [role=status] { display: grid; grid-template-columns: minmax(0, 1fr); gap: 8px }
form h2, form p { margin: 0 }
.mono :deep(textarea) { font: 12px/1.6 var(--mono); white-space: pre; overflow-x: auto }
@media (max-width: 1100px) { .both { grid-template-columns: 1fr } }
</style>
