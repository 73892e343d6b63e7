<script setup lang="ts">
import { computed } from 'vue'
import { api, take, type TraceNews, type TraceStep } from '../api/client'
import FindingBox from '../components/FindingBox.vue'
import ProblemBox from '../components/ProblemBox.vue'
import TakeAlong from '../components/TakeAlong.vue'
import StepsShown from '../components/StepsShown.vue'
import { useLoad } from '../composables/load'
import { useStream } from '../composables/stream'
import { local } from '../composables/words'

const props = defineProps<{ id: string }>()
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/traces/{name}',
  { params: { path: { name: props.id } } })), () => props.id)
const steps = computed<TraceStep[]>(() => data.value?.steps ?? [])
const failure = computed(() => steps.value.find((s) => s.finding)?.finding)
const keeps = computed(() => ['entered', 'refused'].includes(data.value?.result ?? '') && !!data.value?.application)
useStream<TraceNews>(() => (data.value?.result === 'waiting' ? '/api/v1/traces/watch' : undefined), (n) => {
  if (n.trace === props.id) void load()
})
const tone: Record<string, string> = { entered: 'passed', refused: 'refused', waiting: 'waiting', left: 'quiet' }
const words: Record<string, string> = { entered: 'The person entered.', 'signed out': 'The session was ended.', refused: 'Refused.',
  waiting: 'Waiting: the browser has not come back yet.', left: 'Left: the browser never came back.' }
</script>

<template>
  <ProblemBox :problem="problem" />
  <template v-if="data">
    <div class="head">
      <div>
        <h1>Trace <span class="mono">{{ data.id }}</span></h1>
        <p><strong :class="tone[data.result]">{{ words[data.result] }}</strong>
          {{ data.application || 'unknown application' }} · {{ data.provider || 'no provider yet' }} ·
            <span :title="data.person">{{ data.name || data.person || 'person not known' }}</span> ·
          started <time :datetime="data.started" :title="data.started">{{ local(data.started) }}</time> by the
            {{ data.startedBy }}, took {{ data.milliseconds }} ms</p>
        <p v-if="data.run" class="waiting">This was run {{ data.run }} of a rehearsal, and counts as no real sign-in.</p>
      </div>
      <div class="ways"><router-link v-if="data.application" :to="`/watch/traces/${data.id}/compare`">Compare with the last that entered</router-link>
        <router-link v-if="keeps" :to="{ path: '/rehearse', query: { trace: data.id } }">Keep this as a rehearsal</router-link>
        <TakeAlong kind="trace" :name="data.id" /></div>
    </div>
    <FindingBox v-if="failure" :finding="failure" />
    <section v-if="data.remedies?.length" class="sheet remedies"><h2>What would have let them in</h2>
      <p class="quiet">The smallest change first; each was run through this sign-in.</p>
      <ul><li v-for="r in data.remedies" :key="r.says">{{ r.says }} <code v-if="r.command">{{ r.command }}</code></li></ul></section>
    <StepsShown :steps="steps" :started="data.started" />
  </template>
</template>

<style scoped>
.ways { display: flex; flex-direction: column; gap: 4px; align-items: flex-end }
.remedies { padding: 8px 16px; margin: 12px 0 }
.remedies h2 { margin: 0; font-size: 15px }
.remedies p { margin: 0 }
.remedies ul { margin: 4px 0; padding-left: 18px }
</style>
