<script setup lang="ts">
import { ref } from 'vue'
import type { Problem, Schemas } from '../api/client'
import ConsequenceNote from './ConsequenceNote.vue'
import ProblemBox from './ProblemBox.vue'

/** Saves with a reason; change is what would be saved, to tell before what it does to people. */
const props = defineProps<{ busy: boolean; disabled: boolean; problem?: Problem; save: (why: string) => unknown
  change?: () => Schemas['Proposed'] }>()
const why = ref('')
</script>

<template>
  <form class="save" @submit.prevent="props.save(why)">
    <ConsequenceNote v-if="change" :change="() => (disabled ? undefined : props.change!())" />
    <ProblemBox :problem="problem" />
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
