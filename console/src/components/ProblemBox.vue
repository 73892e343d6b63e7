<script setup lang="ts">
import type { Problem } from '../api/client'
import FindingBox from './FindingBox.vue'
import { consequences } from '../composables/act'

defineProps<{ problem?: Problem }>()
</script>

<template>
  <div v-if="problem" role="alert">
    <FindingBox v-if="problem.finding" :finding="problem.finding">
      <p v-if="problem.again" class="again"><el-button type="danger" plain @click="problem.again()">{{ consequences[problem.finding.code] }}</el-button></p></FindingBox>
    <p v-else class="problem"><strong>{{ problem.title }}.</strong> {{ problem.detail }}</p>
  </div>
</template>

<style scoped>
.again { margin: 12px 0 0 }
.problem { background: var(--sheet); border: 1px solid var(--line); border-left: 4px solid var(--refused); border-radius: 4px; padding: 12px 16px }
</style>
