<script setup lang="ts">
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import SimulatePanel from '../components/SimulatePanel.vue'
import { tones } from '../composables/entry'
import { ago, local, times } from '../composables/words'
import { useRulebook } from '../composables/rulebook'

/** Access rules, read aloud, and a trial of them on somebody. */
const { application, data, problem, load, apps, open, chosen, edit, failed, remove } = useRulebook('rule',
  (application) => take(api.GET('/api/v1/rules', { params: { query: { application } } })))

</script>

<template>
  <div class="head"><div><h1>Rules</h1>
    <p>Who may enter. Denials of the gate come first, then the rules of the application, its admissions by name, others of the gate; the first that is
      about somebody decides. Whoever nothing is about enters, unless the application’s setting <code>everyone</code> is no.</p></div>
    <div class="tools"><router-link v-if="application" :to="`/connect/applications/${application}/entrants`"><el-button>Everyone who enters</el-button></router-link>
      <el-button type="primary" @click="edit()">Make a rule</el-button></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools"><el-select v-model="application" filterable clearable placeholder="Every application" aria-label="Application" style="width: 300px">
      <el-option v-for="a in apps ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select>
    <span class="quiet">{{ data?.total ?? 0 }}</span></div>
  <el-table v-if="data" :data="data.items ?? []">
    <el-table-column label="Rule" min-width="210"><template #default="{ row }"><strong>{{ row.title }}</strong> <code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Of" min-width="130"><template #default="{ row }">{{ row.application || 'the gate' }}</template></el-table-column>
    <el-table-column label="Says" min-width="380"><template #default="{ row }"><span :class="tones[row.then]" class="says">{{ row.sentence }}</span>
      <span v-if="row.broken" class="refused"> It cannot be read any more, and denies.</span><span v-else-if="!row.holds" class="quiet"> Not now.</span>
      <div v-if="row.say" class="quiet says">They read: {{ row.say }}</div></template></el-table-column>
    <el-table-column label="Decided" width="150"><template #default="{ row }"><span v-if="row.decided" :title="`in the last 30 days; last ${local(row.last)}`">{{ times(row.decided) }}, {{ ago(row.last) }}</span><span
        v-else class="quiet">not in 30 days</span></template></el-table-column>
    <el-table-column label="" width="180"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row.name)">Remove</el-button></template></el-table-column>
    <template #empty>No rules yet: whoever has a valid answer of a provider enters.</template>
  </el-table>
  <SimulatePanel :application="application" />
  <SettledDrawer v-model="open" kind="rule" :name="chosen" @saved="load" />
</template>

<style scoped>
.says { white-space: normal }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
</style>
