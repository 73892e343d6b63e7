<script setup lang="ts">
import type { Problem } from '../api/client'
import FindingBox from './FindingBox.vue'

defineProps<{ problem?: Problem }>()
</script>

<template>
  <div v-if="problem" role="alert">
    <FindingBox v-if="problem.finding" :finding="problem.finding" />
    <p v-else class="problem"><strong>{{ problem.title }}.</strong> {{ problem.detail }}</p>
  </div>
</template>

<style scoped>
.problem { background: var(--sheet); border: 1px solid var(--line); border-left: 4px solid var(--refused); border-radius: 4px; padding: 12px 16px }
</style>
