<script setup lang="ts">
import { api, take } from '../api/client'
import { useLoad } from '../composables/load'
import ProblemBox from './ProblemBox.vue'

/** Who may enter an application: its rules in the order in which they are looked at, read aloud. */
const props = defineProps<{ application: string; everyone: boolean }>()
const { data, problem } = useLoad(async () => take(api.GET('/api/v1/rules', { params: { query: { application: props.application } } })), () => props.application)
</script>

<template>
  <h2>Who may enter</h2>
  <ProblemBox :problem="problem" />
  <ol v-if="data">
    <li v-for="r in data.items ?? []" :key="r.name"><strong>{{ r.title }}.</strong> {{ r.sentence }}
      <span v-if="!r.application" class="quiet">A rule of the gate.</span>
      <span v-if="r.broken" class="refused"> It cannot be read any more, and denies.</span><span v-else-if="!r.holds" class="quiet"> Not now.</span></li>
    <li>{{ data.items?.length ? (everyone ? 'Whoever no rule is about enters' : 'Whoever no rule is about does not enter')
        : (everyone ? 'Whoever has a valid answer of a provider enters' : 'Nobody enters') }}:
      <code>everyone</code> is <template v-if="everyone">not set to </template>no.</li>
  </ol>
  <p class="tools"><router-link :to="{ path: '/admit/rules', query: { application } }"><el-button size="small">Rules, and a trial of them</el-button></router-link></p>
</template>

<style scoped>
ol { margin: 8px 0; padding-left: 24px }
li { margin: 4px 0 }
.refused { color: var(--refused) }
</style>
