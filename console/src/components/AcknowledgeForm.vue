<script setup lang="ts">
import { ref } from 'vue'
import { api, because, take, type Found } from '../api/client'
import { useAct } from '../composables/act'
import ProblemBox from './ProblemBox.vue'

/** Has a finding count no more until a date, with a remark why. */
const props = defineProps<{ kind: string; name: string; finding: Found }>()
const emit = defineEmits<{ done: [] }>()
const open = ref(false)
const remark = ref('')
const inDays = (n: number) => new Date(Date.now() + n * 86_400_000).toISOString().slice(0, 10)
const until = ref(inDays(90))
const { busy, failed, act } = useAct()
const acknowledge = () => act(async () => {
  await because(remark.value, () => take(api.POST('/api/v1/checks/acknowledge', { body: {
    kind: props.kind as 'provider', name: props.name, marks: [props.finding.mark], remark: remark.value,
    until: new Date(until.value || '1970-01-01').toISOString() } })))
  open.value = false
  emit('done')
})
</script>

<template>
  <p v-if="!open" class="tools row"><el-button size="small" @click="open = true">Acknowledge</el-button></p>
  <form v-else class="tools row" @submit.prevent="acknowledge">
    <el-input v-model="remark" name="remark" placeholder="Why it may stand" aria-label="Why it may stand"
        style="width: 320px" />
    <label>until <input v-model="until" type="date" name="until" :min="inDays(1)" aria-label="Until" /></label>
    <el-button type="primary" native-type="submit" :loading="busy">It is known</el-button>
    <el-button @click="open = false">Leave it</el-button>
    <ProblemBox :problem="failed" />
  </form>
</template>

<style scoped>
.row { margin: 8px 0 0 }
input[type='date'] { font: inherit; padding: 4px 8px; color: var(--ink); background: var(--sheet); border: 1px solid var(--el-border-color); border-radius: 4px }
</style>
