<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '../api/client'
import { tones } from '../composables/entry'
import { useLoad } from '../composables/load'
import { ago, local, times } from '../composables/words'
import ProblemBox from './ProblemBox.vue'

/** Who may enter an application, in the order in which it is looked at, read aloud. */
const props = defineProps<{ application: string }>()
const { data, problem } = useLoad(async () => ({ rules: (await take(api.GET('/api/v1/rules', { params: { query: { application: props.application } } }))).items ?? [],
  named: await take(api.GET('/api/v1/applications/{name}/admissions', { params: { path: { name: props.application } } })) }), () => props.application)
/** Denials of the gate and the application's own rules; behind them come admissions, then others of the gate. */
const first = computed(() => (data.value?.rules ?? []).filter((r) => r.application || r.then === 'deny'))
const last = computed(() => (data.value?.rules ?? []).filter((r) => !r.application && r.then !== 'deny'))
const names = computed(() => { const n = data.value?.named
  const some = [...(n?.groups ?? []).filter((g) => !g.out).map((g) => g.title || g.group), ...(n?.total ? [n.total === 1 ? '1 person' : `${n.total} people`] : [])]
  const out = (n?.groups ?? []).filter((g) => g.out).map((g) => g.title || g.group)
  return [some.length ? `${some.join(', ')} may enter by name.` : '', out.length ? `${out.join(', ')} are kept out.` : ''].filter(Boolean).join(' ') })
</script>

<template>
  <h2>Who may enter</h2>
  <ProblemBox :problem="problem" />
  <ol v-if="data">
    <li v-for="r in first" :key="r.name"><strong>{{ r.title }}.</strong> <span :class="tones[r.then]">{{ r.sentence }}</span>
      <span v-if="!r.application" class="quiet"> A rule of the gate.</span>
      <span v-if="r.broken" class="refused"> It cannot be read any more, and denies.</span><span v-else-if="!r.holds" class="quiet"> Not now.</span>
      <span class="quiet often" :title="r.decided ? local(r.last ?? '') : ''">{{ r.decided ? `decided ${times(r.decided)}, last ${ago(r.last ?? '')}` : 'did not decide in 30 days' }}</span></li>
    <li v-if="names">{{ names }} <span class="quiet often">{{ data.named.decided ? `decided ${times(data.named.decided)} in 30 days` : 'did not decide in 30 days' }}</span></li>
    <li v-for="r in last" :key="r.name"><strong>{{ r.title }}.</strong> <span :class="tones[r.then]">{{ r.sentence }}</span> <span class="quiet"> A rule of the gate.</span>
      <span class="quiet often">{{ r.decided ? `decided ${times(r.decided)}, last ${ago(r.last ?? '')}` : 'did not decide in 30 days' }}</span></li>
    <li><span :class="data.named.everyone === 'no' ? 'refused' : 'passed'">{{ data.named.everyone === 'no' ? 'Nobody else enters.' : 'Everybody else enters.' }}</span><span
        v-if="!data.named.everyone" class="waiting"> Nobody decided that.</span>
      <span class="quiet often">{{ data.named.default ? `decided ${times(data.named.default)} in 30 days` : 'did not decide in 30 days' }}</span></li>
  </ol>
  <p class="tools"><router-link :to="`/connect/applications/${application}/entrants`"><el-button size="small">Everyone who enters, and admissions</el-button></router-link>
    <router-link :to="{ path: '/admit/rules', query: { application } }"><el-button size="small">Rules, and a trial of them</el-button></router-link></p>
</template>

<style scoped>
ol { margin: 8px 0; padding-left: 24px }
li { margin: 4px 0 }
.often { margin-left: 8px; font-size: 12px }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
</style>
