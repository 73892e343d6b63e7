<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useLoad } from '../composables/load'
import { useRulebook } from '../composables/rulebook'
import { ago, done, local } from '../composables/words'

/** What was done to people, and who is told of it. */
const { data: recipients, problem, load, open, chosen, edit, failed, remove } = useRulebook('recipient', () => take(api.GET('/api/v1/recipients')))
const limit = 100
const days = ref(1)
const before = ref<number>()
const { data, problem: wrong, loading } = useLoad(() => take(api.GET('/api/v1/people/events', { params: { query: { limit,
  newest: true, ...(before.value ? { before: before.value } : {}), since: new Date(Date.now() - days.value * 86400000).toISOString() } } })), () => [days.value, before.value])
const more = computed(() => (data.value?.items?.length ?? 0) === limit)
const again = (n: number) => { days.value = n; before.value = undefined }
</script>

<template>
  <div class="head"><div><h1>Events</h1>
    <p>What was done to people, and by whom, the newest first: of what, never what it is. They are gone after a time; recipients are told of them as they come.</p></div>
    <div class="tools"><el-button type="primary" @click="edit()">Make a recipient</el-button></div></div>
  <ProblemBox :problem="problem ?? failed ?? wrong" />
  <h2>Recipients</h2>
  <el-table :data="recipients?.items ?? []">
    <el-table-column label="State" min-width="190"><template #default="{ row }">
      <span v-if="row.paused" class="waiting">◐ paused</span>
      <span v-else-if="row.tries" class="refused says">✕ failed {{ row.tries === 1 ? 'once' : `${row.tries} times` }}: {{ row.answer }}</span>
      <span v-else-if="row.waiting" class="waiting">◐ on the way</span>
      <span v-else class="passed">● heard all</span></template></el-table-column>
    <el-table-column label="Recipient" min-width="180"><template #default="{ row }"><strong>{{ row.title }}</strong><br><code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Address" min-width="240"><template #default="{ row }"><code class="says">{{ row.address }}</code></template></el-table-column>
    <el-table-column label="Waiting" width="100" prop="waiting" />
    <el-table-column label="Heard" width="130"><template #default="{ row }"><time v-if="row.heardAt" :title="local(row.heardAt)">{{ ago(row.heardAt) }}</time><span v-else>–</span></template></el-table-column>
    <el-table-column label="" width="190"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row.name)">Remove</el-button></template></el-table-column>
    <template #empty>Nobody is told. Make a recipient: a title, and the address that signed tokens are posted to.</template>
  </el-table>
  <h2>What was done</h2>
  <div class="tools"><el-radio-group :model-value="days" aria-label="Since" @change="(n) => again(Number(n))">
      <el-radio-button :value="1">A day</el-radio-button><el-radio-button :value="7">A week</el-radio-button><el-radio-button :value="400">All that is kept</el-radio-button></el-radio-group></div>
  <el-table v-loading="loading" :data="data?.items ?? []">
    <el-table-column label="At" width="150"><template #default="{ row }"><time :title="local(row.at)">{{ ago(row.at) }}</time></template></el-table-column>
    <el-table-column label="Person" width="110"><template #default="{ row }"><router-link :to="`/admit/people/${row.person}`">person {{ row.person }}</router-link></template></el-table-column>
    <el-table-column label="What" min-width="360"><template #default="{ row }"><span class="says">{{ done(row.did) }}</span></template></el-table-column>
    <el-table-column label="By" width="110" prop="via" />
    <el-table-column label="Who" min-width="160"><template #default="{ row }"><span class="says">{{ row.who || '–' }}</span></template></el-table-column>
    <el-table-column label="Event" width="100" prop="number" />
    <template #empty>Nothing was done to anybody in that time.</template>
  </el-table>
  <p v-if="more || before" class="tools below"><el-button :disabled="!before" @click="before = undefined">The newest</el-button>
    <el-button :disabled="!more" @click="before = data!.items!.at(-1)!.number">Older</el-button></p>
  <SettledDrawer v-model="open" kind="recipient" :name="chosen" @saved="load" />
</template>

<style scoped>
.says { white-space: normal; overflow-wrap: anywhere }
.below { margin-top: 12px }
</style>
