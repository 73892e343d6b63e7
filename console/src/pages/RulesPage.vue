<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, take, type Schemas } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

/** Access rules, read aloud, and a trial of them on somebody. */
const application = ref(String(useRoute().query.application ?? ''))
const { data, problem, load } = useLoad(async () => take(api.GET('/api/v1/rules', { params: { query: { application: application.value || undefined } } })),
  () => [application.value])
const { data: apps } = useLoad(async () => (await take(api.GET('/api/v1/applications'))).items ?? [])
const open = ref(false)
const chosen = ref<string>()
function edit(name?: string) {
  chosen.value = name
  open.value = true
}
const { failed, act } = useAct({ done: load })
const remove = (name: string) => act(() => take(api.DELETE('/api/v1/objects/{kind}/{name}', { params: { path: { kind: 'rule', name } } })))

const person = ref('')
const network = ref('')
const got = ref<Schemas['Simulated']>()
const trying = useAct({})
const simulate = () => trying.act(async () => {
  got.value = undefined
  got.value = await take(api.POST('/api/v1/applications/{name}/simulations', { params: { path: { name: application.value } },
    body: { person: Number(person.value), network: network.value || undefined } }))
})
const says = computed(() => ({ allow: 'Enters', deny: 'Does not enter', 'step-up': 'Signs in more strongly, or afresh, first' })[got.value?.decision ?? 'allow'])
const colours = { allow: 'passed', deny: 'refused', 'step-up': 'waiting' }
const decides = computed(() => got.value?.rules?.find((r) => r.about)?.name)
</script>

<template>
  <div class="head"><div><h1>Rules</h1>
    <p>Who may enter. Denials of the gate come first, then the rules of the application, then others of the gate; the first that is about somebody
      decides. Whoever no rule is about enters, unless the application’s setting <code>everyone</code> is no.</p></div>
    <el-button type="primary" @click="edit()">Make a rule</el-button></div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="tools"><el-select v-model="application" filterable clearable placeholder="Every application" aria-label="Application" style="width: 300px">
      <el-option v-for="a in apps ?? []" :key="a.name" :value="a.name" :label="a.title || a.name" /></el-select>
    <span class="quiet">{{ data?.total ?? 0 }}</span></div>
  <el-table v-if="data" :data="data.items ?? []">
    <el-table-column label="Rule" min-width="210"><template #default="{ row }"><strong>{{ row.title }}</strong> <code class="quiet">{{ row.name }}</code></template></el-table-column>
    <el-table-column label="Of" min-width="130"><template #default="{ row }">{{ row.application || 'the gate' }}</template></el-table-column>
    <el-table-column label="Says" min-width="380"><template #default="{ row }"><span :class="colours[row.then as keyof typeof colours]" class="says">{{ row.sentence }}</span>
      <span v-if="row.broken" class="refused"> It cannot be read any more, and denies.</span><span v-else-if="!row.holds" class="quiet"> Not now.</span>
      <div v-if="row.say" class="quiet">They read: {{ row.say }}</div></template></el-table-column>
    <el-table-column label="" width="180"><template #default="{ row }"><el-button link type="primary" :aria-label="`Change ${row.title}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.title}`" @click="remove(row.name)">Remove</el-button></template></el-table-column>
    <template #empty>No rules yet: whoever has a valid answer of a provider enters.</template>
  </el-table>
  <section class="sheet" aria-label="Would somebody enter?">
    <h2>Would somebody enter?</h2>
    <p v-if="!application" class="quiet">Choose an application above.</p>
    <el-form v-else inline @submit.prevent="simulate">
      <el-form-item label="Number of the person"><el-input v-model="person" name="person" style="width: 120px" /></el-form-item>
      <el-form-item label="Address of their browser"><el-input v-model="network" name="network" placeholder="none known" style="width: 180px" /></el-form-item>
      <el-button :disabled="!person" @click="simulate">Simulate</el-button>
    </el-form>
    <ProblemBox :problem="trying.failed.value" />
    <template v-if="got">
      <p><strong :class="colours[got.decision as keyof typeof colours]">{{ says }}</strong>
        <span v-if="got.finding"> – {{ got.finding.title }}. {{ got.finding.remedy }}</span><span v-else-if="got.why?.length"> – {{ got.why.join('; ') }}</span></p>
      <ol><li v-for="r in got.rules ?? []" :key="r.name"><code>{{ r.name }}</code> {{ r.sentence }}
        <strong v-if="r.name === decides">Decides.</strong><span v-else-if="r.about" class="quiet">Would be about them, but an earlier one decides.</span>
        <span v-else class="quiet">Not about them: {{ r.why }}.</span></li></ol>
    </template>
  </section>
  <SettledDrawer v-model="open" kind="rule" :name="chosen" @saved="load" />
</template>

<style scoped>
.sheet { margin-top: 24px; padding: 12px 16px }
h2 { margin: 0 0 8px }
.says { white-space: normal }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
li { margin: 4px 0 }
</style>
