<script setup lang="ts">
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import SimulatePanel from '../components/SimulatePanel.vue'
import { useRulebook } from '../composables/rulebook'

/** Roles of applications: who holds them, and what is sent. */
const { application, data, problem, load, apps, open, chosen, edit, failed, remove } = useRulebook('role',
  (application) => take(api.GET('/api/v1/roles', { params: { query: { application } } })))
</script>

<template>
  <div class="head"><div><h1>Roles</h1>
    <p>As what somebody enters an application, and what it is sent for that. A release mapping sends the values by the source <em>Role</em>. Of nested groups the nearest that a
      role names counts. What becomes of several roles, and of nobody’s, are the settings <code>sentRoles</code>, <code>defaultRole</code> and <code>roleNeeded</code> of the application.</p></div>
    <div class="tools"><router-link v-if="application" :to="`/connect/applications/${application}/entrants`"><el-button>Everyone who enters</el-button></router-link>
      <el-button type="primary" @click="edit()">Make a role</el-button></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools"><el-select v-model="application" filterable clearable placeholder="Every application" aria-label="Application" style="width: 300px">
      <el-option v-for="a in apps ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select>
    <span class="quiet">{{ data?.total ?? 0 }}{{ (data?.total ?? 0) > 500 ? '; the first 500 are shown, choose an application for its own' : '' }}</span></div>
  <el-table v-if="data" :data="(data.items ?? []).slice(0, 500)">
    <el-table-column label="Role" min-width="210"><template #default="{ row }"><strong>{{ row.title }}</strong> <code class="quiet">{{ row.role }}</code>
      <span v-if="row.default" class="note"> by default</span></template></el-table-column>
    <el-table-column label="Of" min-width="150"><template #default="{ row }"><router-link :to="`/connect/applications/${row.application}`">{{ row.application }}</router-link></template></el-table-column>
    <el-table-column label="Sent" min-width="200"><template #default="{ row }"><code v-for="v in row.values ?? []" :key="v" class="value">{{ v }}</code></template></el-table-column>
    <el-table-column label="Held by" min-width="330"><template #default="{ row }"><span class="says" :class="{ refused: row.broken }">{{ row.sentence }}</span></template></el-table-column>
    <el-table-column label="" width="180"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row.name)">Remove</el-button></template></el-table-column>
    <template #empty>No roles yet. Make one: what the application knows it by, and who holds it.</template>
  </el-table>
  <SimulatePanel :application="application" />
  <SettledDrawer v-model="open" kind="role" :name="chosen" @saved="load" />
</template>

<style scoped>
.says { white-space: normal }
.value { display: block }
.note { color: var(--note) }
.refused { color: var(--refused) }
</style>
