<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '../api/client'
import { useLoad } from '../composables/load'
import { ago, local, times } from '../composables/words'
import ProblemBox from './ProblemBox.vue'

/** By which provider people come to an application, or which ways lead to a provider: the rules, read aloud. */
const props = defineProps<{ application?: string; provider?: string; tied?: string }>()
const { data, problem } = useLoad(async () => take(api.GET('/api/v1/selection', { params: { query: { application: props.application || undefined } } })),
  () => [props.application, props.provider])
const rules = computed(() => (data.value?.rules ?? []).filter((r) => !props.provider || !r.providers?.length || r.providers.includes(props.provider)))
const domains = computed(() => (data.value?.domains ?? []).filter((d) => d.providers?.includes(props.provider ?? '')))
</script>

<template>
  <h2>{{ provider ? 'Which ways lead here' : 'By which provider' }}</h2>
  <ProblemBox :problem="problem" />
  <p v-if="tied">Its record names <router-link :to="`/connect/providers/${tied}`">{{ tied }}</router-link>: everybody comes by that one, and no rule is asked.</p>
  <template v-else-if="data">
    <ol v-if="rules.length"><li v-for="r in rules" :key="r.name"><strong>{{ r.title }}.</strong> {{ r.sentence }}
      <span v-if="r.broken" class="refused"> It cannot be read any more.</span>
      <span class="quiet often" :title="r.last ? local(r.last) : ''">{{ r.decided ? `decided ${times(r.decided)}, last ${ago(r.last ?? '')}` : 'did not decide in 30 days' }}</span></li></ol>
    <p v-if="provider && domains.length">Addresses at {{ domains.map((d) => d.domain).join(', ') }} are its own, where the page asks for one.</p>
    <p class="quiet">{{ provider ? 'Besides, every application that names no provider offers it, where no rule is about who comes.' : 'Whom no rule is about chooses among all providers that are live.' }}</p>
  </template>
  <p class="tools"><router-link to="/admit/selection"><el-button size="small">Provider selection</el-button></router-link></p>
</template>

<style scoped>
ol { margin: 8px 0; padding-left: 24px }
li { margin: 4px 0 }
.often { margin-left: 8px; font-size: 12px }
.refused { color: var(--refused) }
</style>
