<script setup lang="ts">
import { computed } from 'vue'
import type { Sheet } from '../api/client'
import { saveFile } from '../composables/words'
import CertificateFacts from './CertificateFacts.vue'
import CopyValue from './CopyValue.vue'
import FactList from './FactList.vue'

const props = defineProps<{ sheet: Sheet; file: string; side: string }>()
const facts = computed(() => [
  ...(!props.sheet.metadataAddress ? [] : [{ label: 'Metadata address', value: props.sheet.metadataAddress,
    also: ['federation metadata', 'metadata URL'], hint: 'the other side can fetch everything below from here' }]),
  ...(props.sheet.values ?? []).map((v) => ({ label: v.label, value: v.value, also: v.alsoCalled ?? [],
    hint: v.hint })),
])
</script>

<template>
  <h2>What the {{ side }} needs from the gate</h2>
  <p v-if="sheet.metadata">
    <el-button size="small" @click="saveFile(file + '.xml', sheet.metadata, 'application/samlmetadata+xml')">Download
      metadata</el-button></p>
  <FactList :facts="facts" />
  <template v-if="sheet.groups?.length"><h2>Values of groups that act here, letter by letter</h2>
    <p class="quiet">It is the one thing that the other side must get right: a value that means nothing here makes nobody a member, and nobody notices.</p>
    <ul class="expected"><li v-for="g in sheet.groups.slice(0, 200)" :key="g.value"><CopyValue :value="g.value" :name="g.value" /> <span>{{ g.title }}</span>
      <span class="quiet">{{ g.effects?.length ? `whoever has it ${g.effects.join('; ')}` : 'a member, and nothing else is said' }}</span></li></ul>
    <p v-if="sheet.groups.length > 200" class="quiet">and {{ sheet.groups.length - 200 }} more: innergate provider exchange lists all</p></template>
  <template v-for="c in sheet.certificates ?? []" :key="c.sha256">
    <h2>Certificate of the gate for {{ c.use || 'signing' }}{{ c.next ? ': the next one, announced and not in use yet' : '' }}</h2>
    <CertificateFacts :certificate="c" :file="file" />
  </template>
</template>

<style scoped>
.expected { list-style: none; margin: 8px 0; padding: 0 }
.expected li { display: grid; grid-template-columns: minmax(180px, max-content) minmax(120px, 200px) 1fr; gap: 4px 16px; padding: 6px 0; border-bottom: 1px solid var(--line); overflow-wrap: anywhere }
@media (max-width: 800px) { .expected li { grid-template-columns: 1fr } }
</style>
