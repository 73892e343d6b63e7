<script setup lang="ts">
import { computed } from 'vue'
import type { Sheet } from '../api/client'
import { saveFile } from '../composables/words'
import CertificateFacts from './CertificateFacts.vue'
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
  <template v-for="c in sheet.certificates ?? []" :key="c.sha256">
    <h2>Certificate of the gate for {{ c.use || 'signing' }}{{ c.next ? ': the next one, announced and not in use yet' : '' }}</h2>
    <CertificateFacts :certificate="c" :file="file" />
  </template>
</template>
