<script setup lang="ts">
import { api, take } from '../api/client'
import { useLoad } from '../composables/load'
import ShortLanes from './ShortLanes.vue'

/** The ways to an application on the lanes: application, gate, and every provider that people may be given, with its phase, cohort and figures. */
const props = defineProps<{ title: string; name: string; revision: number; provider: string; path?: string; onlyOwn?: boolean; onlyGate?: boolean }>()
const { data } = useLoad(() => take(api.GET('/api/v1/rollouts/{kind}/{name}', { params: { path: { kind: 'application', name: props.name } } })),
  () => [props.name, props.revision])
const signs: Record<string, string> = { live: '●', pilot: '◐', paused: '○', draft: '○', retired: '–' }
</script>

<template>
  <div v-if="data?.ways && (data.ways.length > 1 || data.ways[0]?.phase !== 'live')" class="fan">
    <span class="post"><small>application</small>{{ title }} <small>{{ signs[data.phase] }} {{ data.phase }}<template v-if="data.cohort && data.phase === 'pilot'">: <code>{{ data.cohort }}</code></template></small></span>
    <svg viewBox="0 0 40 14" width="40" height="14" aria-hidden="true"><path d="M2 7h36M32 3l6 4-6 4M8 3 2 7l6 4" /></svg>
    <span class="post gate"><small>gate</small>Inner Gate</span>
    <ul aria-label="Ways to sign in">
      <li v-for="w in data.ways" :key="w.provider" :class="w.phase">
        <svg viewBox="0 0 56 14" width="56" height="14" aria-hidden="true"><path class="line" d="M2 7h52" /><path v-if="w.phase === 'live' || w.phase === 'pilot'" d="M48 3l6 4-6 4" /><path v-else d="M24 2l8 10M32 2l-8 10" /></svg>
        <span class="post"><small>provider · {{ w.by }}</small><router-link :to="`/connect/providers/${w.provider}`">{{ w.title }}</router-link>
          <small>{{ signs[w.phase] }} {{ w.phase }}<template v-if="w.cohort">: <code>{{ w.cohort }}</code></template>; {{ w.people }} came, {{ w.entered }} entered<template v-if="w.refused">, <span class="refused">{{ w.refused }} refused at last</span></template></small></span>
      </li>
    </ul>
  </div>
  <ShortLanes v-else :application="title" :provider="provider" :provider-path="path" :only-own="onlyOwn" :only-gate="onlyGate" />
</template>

<style scoped>
.fan { display: flex; align-items: center; gap: 8px }
.fan ul { list-style: none; margin: 0; padding: 0; display: grid; gap: 6px; border-left: 2px solid var(--gate) }
.fan li { display: flex; align-items: center; gap: 8px }
.post { display: flex; flex-direction: column; min-width: 180px; padding: 6px 12px; border: 1px solid var(--line); border-radius: 4px; background: var(--sheet); line-height: 1.35; font-weight: 600 }
.post small { color: var(--quiet); font-weight: 400 }
.post.gate { min-width: 90px; border-color: var(--gate); border-width: 2px }
.refused { color: var(--refused) }
path { stroke: var(--quiet); fill: none; stroke-width: 1.5 }
.pilot .line { stroke-dasharray: 5 4 }
.paused .line, .draft .line, .retired .line { stroke-dasharray: 1 4 }
@media (max-width: 720px) { .fan, .fan li { flex-direction: column; align-items: stretch } svg { display: none } }
</style>
