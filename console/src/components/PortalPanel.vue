<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '../api/client'
import { useLoad } from '../composables/load'
import ProblemBox from './ProblemBox.vue'

/** What somebody finds on the portal, decided as if they came now. */
const props = defineProps<{ person: number }>()
const { data, problem } = useLoad(() => take(api.GET('/api/v1/people/{number}/portal', { params: { path: { number: props.person } } })), () => [props.person])
const rows = computed(() => [['', data.value?.tiles], ['not open yet', data.value?.coming], ['may ask for it', data.value?.offers], ['hidden', data.value?.hidden]] as const)
</script>

<template>
  <section aria-label="On their portal">
    <h2>On their portal</h2>
    <ProblemBox :problem="problem" />
    <p v-if="data && !data.in" class="quiet">They may not come to the portal, or it is not known by which provider they come.</p>
    <template v-else-if="data">
      <p class="quiet">As they come by {{ (data.by ?? []).join(' and ') }}.</p>
      <ul class="sheet tiles"><template v-for="[how, tiles] in rows" :key="how"><li v-for="t in tiles ?? []" :key="t.address">
        <span>{{ t.section }}</span> <a :href="t.address" target="_blank" rel="noopener">{{ t.title }}</a>
        <span class="quiet">{{ [how, ...(t.marks ?? []), t.used ? `entered ${t.used === 1 ? 'once' : `${t.used} times`}` : ''].filter(Boolean).join(', ') }}</span></li></template></ul>
    </template>
  </section>
</template>

<style scoped>
.tiles { list-style: none; margin: 0; padding: 8px 16px }
.tiles li { display: grid; grid-template-columns: 140px minmax(200px, 1fr) 2fr; gap: 12px; padding: 4px 0 }
.tiles span:first-child { color: var(--quiet) }
</style>
