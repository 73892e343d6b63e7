<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { api, take, type Schemas } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { ago, local, times } from '../composables/words'
import { useRulebook } from '../composables/rulebook'

/** Provider selection: its rules read aloud, whose each domain is, and a trial of them. */
const { application, data, problem, load, apps, open, chosen, edit, failed, remove } = useRulebook('selection',
  (application) => take(api.GET('/api/v1/selection', { params: { query: { application } } })))
const search = ref('')
const domains = computed(() => (data.value?.domains ?? []).filter((d) => !search.value || [d.domain, d.organisation ?? '', ...(d.providers ?? []), ...(d.vouching ?? [])].some((v) => v.includes(search.value.toLowerCase()))))

const form = reactive({ person: '', email: '', network: '' })
const got = ref<Schemas['WayFound']>()
const trying = useAct({})
const find = () => trying.act(async () => {
  got.value = undefined
  got.value = await take(api.POST('/api/v1/applications/{name}/way', { params: { path: { name: application.value } },
    body: { network: form.network || undefined, ...(form.person ? { person: Number(form.person) } : { email: form.email || undefined }) } }))
})
</script>

<template>
  <div class="head"><div><h1>Provider selection</h1>
    <p>By which provider somebody comes. The first rule that is about who comes decides; whom none is about chooses among all that are live. An application that names a
      provider has that one. Once somebody is known the rules are asked again: whoever came by another way is sent on to their own.</p>
    <p v-if="data" class="quiet">Owners always come in at <code>{{ data.owners }}</code> with their own password; no rule closes that.</p></div>
    <el-button type="primary" @click="edit()">Make a rule</el-button></div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools"><el-select v-model="application" filterable clearable placeholder="Every application" aria-label="Application" style="width: 300px">
      <el-option v-for="a in apps ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select>
    <span class="quiet">{{ data?.rules?.length ?? 0 }}{{ (data?.rules?.length ?? 0) > 500 ? '; the first 500 are shown, choose an application for its own' : '' }}</span></div>
  <el-table v-if="data" :data="(data.rules ?? []).slice(0, 500)">
    <el-table-column label="Rule" min-width="240"><template #default="{ row }"><strong>{{ row.title }}</strong> <code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Says" min-width="440"><template #default="{ row }"><span class="says">{{ row.sentence }}</span><span v-if="row.broken" class="refused"> It cannot be read any more.</span></template></el-table-column>
    <el-table-column label="Decided" width="150"><template #default="{ row }"><span v-if="row.decided" :title="`in the last 30 days; last ${local(row.last)}`">{{ times(row.decided) }}, {{ ago(row.last) }}</span><span
        v-else class="quiet">not in 30 days</span></template></el-table-column>
    <el-table-column label="" width="180"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row.name)">Remove</el-button></template></el-table-column>
    <template #empty>No rules yet: an application that names no provider offers all that are live.</template>
  </el-table>
  <section class="sheet" aria-label="By which way would somebody come?">
    <h2>By which way would somebody come?</h2>
    <p v-if="!application" class="quiet">Choose an application above.</p>
    <el-form v-else label-position="top" class="form" @submit.prevent="find">
      <el-form-item label="Number of a person who is known"><el-input v-model="form.person" name="person" /></el-form-item>
      <el-form-item label="or address that is typed"><el-input v-model="form.email" name="email" :disabled="!!form.person" placeholder="ada@wrenmoor.example" /></el-form-item>
      <el-form-item label="Address of their browser"><el-input v-model="form.network" name="network" placeholder="as last, or none" /></el-form-item>
      <div class="tools"><el-button native-type="submit" :loading="trying.busy.value">Find the way</el-button></div>
    </el-form>
    <ProblemBox :problem="trying.failed.value" />
    <template v-if="got"><p><strong>{{ got.ask ? 'Asked for their address first' : (got.providers?.length ?? 0) > 1 ? 'Chooses' : 'Goes on to' }}</strong>
        {{ got.providers?.join(', ') }}</p><ul><li v-for="w in got.why ?? []" :key="w">{{ w }}</li></ul></template>
  </section>
  <h2>Domains of e-mail addresses</h2>
  <p class="quiet">Whose people come by them (a provider’s <code>domains</code>), whose word counts for their addresses (<code>vouchesFor</code>), and where people land (an organisation’s
    <code>domains</code>).</p>
  <div class="tools"><el-input v-model="search" clearable placeholder="Domain or name" aria-label="Search domains" name="domains" style="width: 280px" /><span class="quiet">{{ domains.length }}</span></div>
  <el-table :data="domains.slice(0, 500)" max-height="480">
    <el-table-column label="Domain" min-width="220"><template #default="{ row }"><code>{{ row.domain }}</code></template></el-table-column>
    <el-table-column label="Comes by" min-width="200"><template #default="{ row }">{{ row.providers?.join(', ') || '–' }}</template></el-table-column>
    <el-table-column label="Vouched for by" min-width="180"><template #default="{ row }">{{ row.vouching?.join(', ') || '–' }}</template></el-table-column>
    <el-table-column label="Lands in" min-width="150"><template #default="{ row }">{{ row.organisation || '–' }}</template></el-table-column>
    <el-table-column label="Confirmed" min-width="200"><template #default="{ row }"><span :title="row.note">{{ row.note || '–' }}</span></template></el-table-column>
    <template #empty>No domains yet. Name them in the settings of a provider.</template>
  </el-table>
  <SettledDrawer v-model="open" kind="selection" :name="chosen" @saved="load" />
</template>

<style scoped>
.sheet { margin-top: 24px; padding: 12px 16px }
.sheet h2 { margin: 0 0 8px }
.form { display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 0 16px }
.form .tools { grid-column: 1 / -1 }
.says { white-space: normal }
.refused { color: var(--refused) }
@media (max-width: 800px) { .form { grid-template-columns: 1fr } }
</style>
