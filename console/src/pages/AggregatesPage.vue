<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Aggregate, type Job, type Problem } from '../api/client'
import JobProgress from '../components/JobProgress.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { handedOver } from '../composables/handover'
import { useLoad } from '../composables/load'
import { uploadForm } from '../composables/upload'
import { days, localDate } from '../composables/words'

const router = useRouter()
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/aggregates')))
const adding = ref(false)
const form = ref({ name: '', title: '', address: '', trustKey: '' })
const way = ref<'file' | 'address'>('file')
const file = ref<File>()
const job = ref<Job>()
const failed = ref<Problem>()
const sent = ref(0)
const busy = ref(false)
const wrong = (field: string) => (failed.value?.errors?.some((e) => e.field === field)
  ? (failed.value.finding?.title ?? failed.value.errors.find((e) => e.field === field)!.message) : '')

onMounted(() => {
  if (!handedOver.value) return
  file.value = handedOver.value
  handedOver.value = undefined
  adding.value = true
})
const open = (row: Aggregate) => router.push(`/connect/aggregates/${row.name}`)
const pick = (e: Event) => (file.value = (e.target as HTMLInputElement).files?.[0])
let reading = Promise.resolve()
function key(e: Event) {
  const chosen = (e.target as HTMLInputElement).files?.[0]
  if (chosen) reading = chosen.text().then((text) => void (form.value.trustKey = text))
}
async function add() {
  failed.value = undefined
  busy.value = true
  await reading
  const { name, title, address, trustKey } = form.value
  const settings = { name, title: title || undefined, trustKey: trustKey || undefined }
  try {
    if (way.value === 'address') job.value = await take(api.POST('/api/v1/aggregates',
      { body: { ...settings, address } }))
    else job.value = await uploadForm('/api/v1/aggregates/upload', settings, file.value ?? new File([], ''),
      (part) => (sent.value = part))
    adding.value = false
  } catch (e) {
    failed.value = e as Problem
  } finally {
    busy.value = false
    sent.value = 0
  }
}
</script>

<template>
  <div class="head">
    <div>
      <h1>Aggregates</h1>
      <p>Metadata of whole federations: taken in as it is, verified, searched, and taken over one by one or many at
        once.</p>
    </div>
    <el-button type="primary" @click="adding = !adding">Take in an aggregate</el-button>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <el-form v-if="adding" label-position="top" class="sheet form" @submit.prevent="add">
    <el-form-item label="Short name" :error="wrong('name')"><el-input v-model="form.name" name="name"
        placeholder="northern-lines" /></el-form-item>
    <el-form-item label="Where it comes from" :error="wrong('metadata') || wrong('address') || wrong('document')">
      <el-radio-group v-model="way" aria-label="Where the aggregate comes from"><el-radio value="file">File</el-radio>
        <el-radio value="address">Address</el-radio></el-radio-group>
      <p v-if="way === 'file'" class="file"><input type="file" name="file" aria-label="Aggregate file" @change="pick"
          /> <span v-if="file" class="quiet">{{ file.name }}, {{ (file.size / 1e6).toFixed(1) }} MB</span></p>
      <el-input v-else v-model="form.address" name="address" placeholder="https://"
          aria-label="Address of the aggregate" />
    </el-form-item>
    <el-form-item label="Trust key" :error="wrong('trustKey')">
      <el-input v-model="form.trustKey" name="trustKey" type="textarea" :rows="4"
          placeholder="certificate in PEM that the publisher signs with" />
      <p class="file"><input type="file" name="trustKeyFile" aria-label="Trust key file" accept=".pem,.crt,.cer"
          @change="key" /></p>
      <div class="quiet hint">without it the signature is not verified, and the aggregate carries a warning</div>
    </el-form-item>
    <el-form-item label="Title"><el-input v-model="form.title" name="title" placeholder="as the document names itself"
        /></el-form-item>
    <el-progress v-if="busy && way === 'file'" :percentage="Math.round(sent * 100)" />
    <el-button type="primary" native-type="submit" :loading="busy">Take it in</el-button>
  </el-form>
  <JobProgress v-if="job" :job="job" @ended="load" />
  <el-table :data="data?.items ?? []" empty-text="No aggregate yet. Take one in with the button above."
      @row-click="open">
    <el-table-column label="Signature" width="130"><template #default="{ row }">
      <span :class="row.verified ? 'passed' : 'waiting'">{{ row.verified ? '● verified' : '▲ not verified' }}</span>
      </template></el-table-column>
    <el-table-column label="Title" min-width="220"><template #default="{ row }">
      <router-link :to="`/connect/aggregates/${row.name}`" @click.stop>{{ row.title }}</router-link></template>
      </el-table-column>
    <el-table-column prop="name" label="Short name" min-width="150" />
    <el-table-column prop="entities" label="Entities" width="110" />
    <el-table-column prop="broken" label="Broken" width="100" />
    <el-table-column label="Valid until" width="200">
      <template
          #default="{ row }">{{ row.validUntil ? `${localDate(row.validUntil)}, ${days(row.validUntil)}` : '–' }}</template></el-table-column>
  </el-table>
</template>

<style scoped>
.form { padding: 16px 24px 24px; max-width: 720px; margin-bottom: 16px }
.file { margin: 4px 0 0; width: 100% }
.hint { width: 100%; font-size: 12px }
</style>
