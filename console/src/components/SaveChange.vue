<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Problem } from '../api/client'
import ProblemBox from './ProblemBox.vue'

/** Saves with a reason; a consequence that has to be looked at first is shown, and confirmed as it was seen. */
const props = defineProps<{ busy: boolean; disabled: boolean; problem?: Problem; save: (why: string, confirm?: string) => unknown }>()
const why = ref('')
const digest = computed(() => (props.problem?.finding?.code === 'names-change'
  ? props.problem.finding.evidence?.find((e) => e.label === 'To confirm')?.found : undefined))
async function go(confirm?: string) {
  await props.save(why.value, confirm)
}
</script>

<template>
  <form class="save" @submit.prevent="go()">
    <ProblemBox :problem="problem" />
    <p v-if="digest"><el-button type="danger" plain :loading="busy" @click="go(digest)">Give them the other names</el-button></p>
    <div class="tools">
      <el-input v-model="why" name="why" placeholder="Why (optional, kept in the history)" aria-label="Why" />
      <el-button type="primary" native-type="submit" :loading="busy" :disabled="disabled">Save</el-button>
    </div>
  </form>
</template>

<style scoped>
.save { margin-top: 12px }
.tools { flex-wrap: nowrap; margin: 0 }
</style>
