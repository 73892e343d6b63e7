<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Preview } from '../api/client'
import { named } from '../composables/words'
import DifferenceTable from './DifferenceTable.vue'
import FactList from './FactList.vue'
import FindingBox from './FindingBox.vue'

const props = defineProps<{ preview: Preview }>()
defineEmits<{ pick: [entityId: string] }>()
const facts = computed(() => (props.preview.values ?? []).filter((v) => v.value !== '' && v.value !== 'false' &&
  !/^[a-z]/.test(v.label)).map((v) => ({ label: named(v), value: v.value, plain: v.label === 'Metadata from' })))
const found = ref<HTMLElement>()
const summary = computed(() =>
  ['error', 'warning', 'note'].flatMap((s) => {
    const n = (props.preview.findings ?? []).filter((f) => f.severity === s).length
    return n ? [`${n} ${s}${n > 1 ? 's' : ''}`] : []
  }).join(', '))
const worst = computed(() => ({ error: 'refused', warning: 'waiting',
  note: 'note' })[props.preview.findings?.[0]?.severity ?? 'note'])
const whom = computed(() => `the ${props.preview.kind}'s administrator`)
</script>

<template>
  <section v-if="preview.choices?.length" aria-label="Which is meant" class="preview">
    <h2>Which of them is meant?</h2>
    <p>The document holds several entities. Choose one, or take it all in as an <router-link
        to="/connect/aggregates">aggregate</router-link>.</p>
    <ul class="sheet choices">
      <li v-for="c in preview.choices" :key="c.entityId"><el-button size="small"
          @click="$emit('pick', c.entityId)">This one</el-button> <code>{{ c.entityId }}</code> {{ c.title }}</li>
    </ul>
  </section>
  <section v-else aria-label="Preview" class="preview">
    <h2>{{ preview.existing ? 'What would change' : 'What would be set' }}</h2>
    <p>
      <template v-if="preview.existing">The {{ preview.kind }} <code>{{ preview.name }}</code> is on record at revision
        {{ preview.revision }}.</template>
      <template v-else>A new {{ preview.kind }} <code>{{ preview.name }}</code>, {{ preview.title }}.</template>
      <template v-if="preview.otherRole"> The document also holds the entity's other role; it can be added
        afterwards.</template>
    </p>
    <div v-if="preview.missing?.length" class="sheet missing">
      <p><strong class="waiting">○ Unfinished.</strong> Still missing, from {{ whom }}:</p>
      <ul><li v-for="m in preview.missing" :key="m">{{ m }}</li></ul>
    </div>
    <p><span v-if="!preview.findings?.length" class="passed">● Checks: nothing found.</span>
      <a v-else href="#found" :class="worst" @click.prevent="found?.scrollIntoView()">▲ Checks: {{ summary }}, below</a>
      </p>
    <DifferenceTable v-if="preview.existing" :differences="preview.differences ?? []"
        empty="Nothing differs from the record." />
    <FactList v-else :facts="facts" />
    <div ref="found"><FindingBox v-for="(f, i) in preview.findings ?? []" :key="i" :finding="f" checked /></div>
  </section>
</template>

<style scoped>
.missing { padding: 8px 16px; margin-bottom: 12px; border-left: 4px solid var(--waiting) }
.choices { list-style: none; margin: 0; padding: 8px 16px }
.choices li { padding: 4px 0; overflow-wrap: anywhere }
.missing p, .missing ul { margin: 0 }
</style>
