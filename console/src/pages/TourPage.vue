<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import RunPanel from '../components/RunPanel.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'

/** The tour of the demo: classic mistakes, each made, found, mended. */
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/tour')))
const stops = computed(() => data.value?.items ?? [])
const chosen = ref('')
const seen = ref<Record<string, 'broken' | 'mended'>>({})
const runs = ref<Record<string, number>>({})
const { busy, failed, act } = useAct({ done: load })
const path = (name: string) => ({ params: { path: { name } } })
const breaks = (name: string) => act(async () => {
  chosen.value = name
  const r = await take(api.POST('/api/v1/tour/{name}/break', path(name)))
  runs.value = { ...runs.value, [name]: r.id }
  seen.value = { ...seen.value, [name]: 'broken' }
})
const mends = (name: string) => act(async () => {
  const r = await take(api.POST('/api/v1/tour/{name}/mend', path(name)))
  runs.value = { ...runs.value, [name]: r.id }
  seen.value = { ...seen.value, [name]: 'mended' }
})
const through = computed(() => Object.values(seen.value).filter((s) => s === 'mended').length)
const after = (name: string) => stops.value[stops.value.findIndex((s) => s.name === name) + 1]
</script>

<template>
  <div class="head"><div><h1>Tour</h1>
    <p>Twelve mistakes that everybody makes once. Each is made on the stand-ins of this demo; a rehearsal fails, its finding explains, one press mends it, and it passes.</p></div>
    <span v-if="through" class="quiet">{{ through }} of {{ stops.length }} mended</span></div>
  <ProblemBox :problem="problem ?? failed" />
  <p v-if="data && !stops.length" class="quiet">This gate is no demo: there are no stand-ins to make mistakes on. Start one with <code>innergate demo</code>.</p>
  <ol class="stops">
    <li v-for="(s, i) in stops" :key="s.name" class="sheet" :class="{ chosen: chosen === s.name }">
      <div class="line"><span class="number">{{ i + 1 }}</span>
        <div class="what"><h2>{{ s.title }}</h2><p>{{ s.story }}</p></div>
        <div class="tools">
          <span v-if="s.broken" class="refused">✕ in force</span><span v-else-if="seen[s.name] === 'mended'" class="passed">● mended</span>
          <el-button v-if="!s.broken" :type="chosen === s.name ? undefined : 'primary'" :plain="chosen !== s.name" :loading="busy && chosen === s.name" @click="breaks(s.name)">{{ seen[s.name] ? 'Make it again' : 'Make the mistake' }}</el-button>
          <el-button v-else-if="chosen !== s.name" @click="chosen = s.name">Look at it</el-button></div></div>
      <template v-if="chosen === s.name && (runs[s.name] ?? s.run)">
        <div v-if="s.broken" class="mend"><el-button type="primary" :loading="busy" @click="mends(s.name)">{{ s.mend }}</el-button>
          <span class="quiet">{{ s.atGate ? 'at the gate' : 'at the other side' }}, then it runs again</span></div>
        <div v-else-if="after(s.name)" class="mend"><el-button type="primary" :loading="busy" @click="breaks(after(s.name)!.name)">Next: {{ after(s.name)!.title }}</el-button></div>
        <RunPanel :id="(runs[s.name] ?? s.run)!" :key="runs[s.name] ?? s.run" />
        <p><router-link :to="{ path: `/rehearse/${s.rehearsal}`, query: { run: String(runs[s.name] ?? s.run) } }">The rehearsal {{ s.rehearsal }}</router-link></p>
      </template>
    </li>
  </ol>
</template>

<style scoped>
.stops { list-style: none; padding: 0; margin: 0; display: grid; gap: 8px }
.stops > li { padding: 12px 16px }
.chosen { border-color: var(--gate) }
.line { display: flex; gap: 16px; align-items: flex-start }
.number { font-weight: 700; color: var(--gate); min-width: 24px; font-size: 18px }
.what { flex: 1; min-width: 0 }
.what h2 { margin: 0; font-size: 15px }
.what p { margin: 2px 0 0; color: var(--quiet) }
.tools { flex: none }
.mend { margin: 12px 0 0 40px; display: flex; gap: 12px; align-items: center; flex-wrap: wrap }
@media (max-width: 640px) { .line { flex-wrap: wrap } .what { flex-basis: calc(100% - 40px) } .mend { margin-left: 0 } }
</style>
