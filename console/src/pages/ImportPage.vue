<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import type { Job } from '../api/client'
import JobProgress from '../components/JobProgress.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { uploadForm } from '../composables/upload'

const file = ref<File>()
const how = reactive({ by: '', knownOnly: false, skipBad: false, empties: false })
const job = ref<Job>()
const ended = ref<Job>()
const { busy, failed, act } = useAct()
watch([file, how], () => { job.value = ended.value = undefined })
const seen = computed(() => ended.value?.imported)
const ready = computed(() => seen.value && !seen.value.stored && seen.value.new + seen.value.changed > 0 && (!seen.value.badRows || how.skipBad))
const send = (digest: string) => act(async () => {
  ended.value = undefined
  job.value = await uploadForm('/api/v1/people/import', { ...how, digest }, file.value!, () => {})
})
const pick = (e: Event) => { file.value = (e.target as HTMLInputElement).files?.[0] }
</script>

<template>
  <div class="head"><div><h1>Import a list of people</h1>
    <p>CSV as any program writes it, or JSON as the export gives it out. Headings are attributes, like <code>userName</code>, <code>displayName</code>,
      <code>emails</code>, <code>employeeNumber</code>, and <code>number</code>, <code>state</code>, <code>groups</code>, <code>organisations</code>,
      <code>link:PROVIDER</code>. Several values of a cell stand between |.</p></div></div>
  <ProblemBox :problem="failed" />
  <el-form class="sheet form" label-position="top" @submit.prevent="send('')">
    <label class="file">List <input type="file" name="list" accept=".csv,.json,.txt,text/csv,application/json" @change="pick" /></label>
    <el-form-item label="Heading by which people on record are found"><el-input v-model="how.by" name="by" placeholder="number, else userName, employeeNumber or emails" /></el-form-item>
    <div class="checks"><el-checkbox v-model="how.knownOnly">Make nobody</el-checkbox>
      <el-checkbox v-model="how.empties">An empty cell takes away what is there</el-checkbox>
      <el-checkbox v-model="how.skipBad">Leave rows out that cannot be used</el-checkbox></div>
    <div class="tools"><el-button :type="ready ? 'default' : 'primary'" native-type="submit" :loading="busy" :disabled="!file">See what would change</el-button>
      <el-button v-if="ready" type="primary" @click="send(seen!.digest)">Import {{ seen!.new + seen!.changed }}</el-button></div>
  </el-form>
  <JobProgress v-if="job" :key="job.id" :job="job" @ended="ended = $event" />
  <template v-if="seen">
    <p class="counts"><strong :class="seen.stored ? 'passed' : 'note'">{{ seen.stored ? '● imported' : '○ nothing is stored yet' }}</strong> · {{ seen.rows }} rows, read as
      {{ seen.encoding }}<template v-if="seen.separator"> separated by {{ ({ ',': 'commas', ';': 'semicolons', '\t': 'tabs', '|': 'bars' } as Record<string, string>)[seen.separator] }}</template>, people found by <code>{{ seen.by }}</code> ·
      {{ seen.new }} new, {{ seen.changed }} changed, {{ seen.same }} the same already<template v-if="seen.disabled">, {{ seen.disabled }} disabled</template><template
      v-if="seen.enabled">, {{ seen.enabled }} enabled</template></p>
    <template v-if="seen.badRows"><h2 class="refused">{{ seen.badRows }} {{ seen.badRows === 1 ? 'row' : 'rows' }} cannot be used</h2>
      <el-table :data="seen.bad ?? []"><el-table-column label="Line" width="80" prop="line" />
        <el-table-column label="Heading" width="180"><template #default="{ row }"><code>{{ row.column || '–' }}</code></template></el-table-column>
        <el-table-column label="What is wrong" min-width="400"><template #default="{ row }"><span class="whole">{{ row.cause }}</span></template></el-table-column></el-table></template>
    <template v-if="seen.oddRows && !seen.stored"><h2 class="waiting">{{ seen.oddRows }} {{ seen.oddRows === 1 ? 'thing' : 'things' }} to look at</h2>
      <el-table :data="seen.odd ?? []"><el-table-column label="Line" width="80" prop="line" />
        <el-table-column label="Heading" width="180"><template #default="{ row }"><code>{{ row.column || '–' }}</code></template></el-table-column>
        <el-table-column label="What it comes to" min-width="400"><template #default="{ row }"><span class="whole">{{ row.cause }}</span></template></el-table-column></el-table></template>
    <template v-if="seen.listed?.length"><h2>{{ seen.stored ? 'What changed' : 'What would change' }}</h2>
      <el-table :data="seen.listed" max-height="480"><el-table-column label="Line" width="80" prop="line" />
        <el-table-column label="Person" width="100"><template #default="{ row }"><router-link v-if="row.person" :to="`/admit/people/${row.person}`">{{ row.person }}</router-link><span v-else>new</span></template></el-table-column>
        <el-table-column label="Name" min-width="200" prop="name" />
        <el-table-column label="Changes" min-width="420"><template #default="{ row }"><span v-for="(d, i) in row.differences" :key="i" class="difference"><span class="quiet">{{ d.label }}</span>
          <del v-if="d.before">{{ d.before }}</del> {{ d.after }}</span></template></el-table-column></el-table></template>
  </template>
</template>

<style scoped>
.form { padding: 16px; display: grid; gap: 8px 24px; grid-template-columns: 1fr 1fr }
.file { display: grid; gap: 8px; font-weight: 600 }
.checks, .form .tools { grid-column: 1 / -1; margin: 0; display: flex; gap: 4px 24px; flex-wrap: wrap }
.counts { margin-top: 16px }
.difference { margin-right: 12px }
.whole { white-space: normal }
@media (max-width: 800px) { .form { grid-template-columns: 1fr } }
</style>
