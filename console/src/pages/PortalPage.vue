<script setup lang="ts">
import { ref } from 'vue'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useLoad } from '../composables/load'
import { useRulebook } from '../composables/rulebook'

/** The portal: what it is like, and the starting points of applications. */
const { application, data, problem, load, apps, open, chosen, edit, failed, remove } = useRulebook('start',
  (application) => take(api.GET('/api/v1/starts', { params: { query: { application } } })))
const like = ref(false)
const { data: portal, load: again } = useLoad(() => take(api.GET('/api/v1/objects/{kind}/{name}', { params: { path: { kind: 'portal', name: 'portal' } } })))
const said = (name: string) => portal.value?.settings?.[name]
const words = (name: string) => ((said(name) as string[] | undefined) ?? []).join(', ')
</script>

<template>
  <div class="head"><div><h1>Portal</h1>
    <p>Where people find the applications that they enter: <a href="/">the page at the gate’s own address</a>. Where an application stands on it are its settings <code>portalSection</code>,
      <code>portalPlace</code> and <code>hidden</code>; what one person finds is on their page.</p></div>
    <div class="tools"><el-button @click="like = true">What it is like</el-button><el-button type="primary" @click="edit()">Make a starting point</el-button></div></div>
  <ProblemBox :problem="problem ?? failed" />
  <dl v-if="portal" class="sheet like">
    <div><dt>Sections, in order</dt><dd>{{ words('sections') || 'by name' }}</dd></div>
    <div><dt>What people may ask for</dt><dd>{{ said('offers') ? 'is shown' : 'is not shown' }}</dd></div>
    <div><dt>What is not open yet</dt><dd>{{ said('notYet') ? 'is shown' : 'is not shown' }}</dd></div>
    <div><dt>Whoever has one application</dt><dd>{{ said('straight') ? 'goes straight there' : 'sees the portal' }}</dd></div>
    <div><dt>People may change themselves</dt><dd>{{ words('editable') || 'nothing' }}</dd></div>
  </dl>
  <h2>Starting points</h2>
  <div class="tools"><el-select v-model="application" filterable clearable placeholder="Every application" aria-label="Application" style="width: 300px">
      <el-option v-for="a in apps ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select>
    <span class="quiet">{{ data?.total ?? 0 }}{{ (data?.total ?? 0) > 500 ? '; the first 500 are shown, choose an application for its own' : '' }}</span></div>
  <el-table v-if="data" :data="(data.items ?? []).slice(0, 500)">
    <el-table-column label="Title" min-width="200"><template #default="{ row }"><strong>{{ row.title }}</strong><br><code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Of" min-width="150"><template #default="{ row }"><router-link :to="`/connect/applications/${row.application}`">{{ row.application }}</router-link></template></el-table-column>
    <el-table-column label="Lands at" min-width="220"><template #default="{ row }"><code class="says">{{ row.target || 'its first page' }}</code></template></el-table-column>
    <el-table-column label="Shown to" min-width="260"><template #default="{ row }"><span class="says" :class="{ refused: row.broken }">{{ row.sentence }}</span></template></el-table-column>
    <el-table-column label="" width="230"><template #default="{ row }"><a :href="row.address" target="_blank" rel="noopener" :aria-label="`Try it: ${row.title}`" class="try">Try it</a>
      <el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row.name)">Remove</el-button></template></el-table-column>
    <template #empty>No starting points yet. Make one: the application, a title, and what the application is told to land at.</template>
  </el-table>
  <SettledDrawer v-model="open" kind="start" :name="chosen" @saved="load" />
  <SettledDrawer v-model="like" kind="portal" name="portal" @saved="again" />
</template>

<style scoped>
.try { margin-right: 12px }
.says { white-space: normal; overflow-wrap: anywhere }
.like { display: grid; grid-template-columns: repeat(auto-fit, minmax(180px, 1fr)); gap: 4px 24px; padding: 12px 16px; margin: 0 }
.like dt { color: var(--quiet) }
.like dd { margin: 0 }
.refused { color: var(--refused) }
</style>
