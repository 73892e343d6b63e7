<script setup lang="ts">
import { api, because, take, type Acknowledged } from '../api/client'
import { useAct } from '../composables/act'
import { localDate } from '../composables/words'
import ProblemBox from './ProblemBox.vue'

/** Findings that somebody has acknowledged: they count no more, until their date. */
const props = defineProps<{ kind: string; name: string; known: Acknowledged[] }>()
const emit = defineEmits<{ done: [] }>()
const { failed, act } = useAct({ done: () => emit('done') })
const withdraw = (a: Acknowledged) => act(() => because('', () => take(api.POST('/api/v1/checks/withdraw',
  { body: { kind: props.kind as 'provider', name: props.name, marks: [a.mark] } }))))
</script>

<template>
  <ProblemBox :problem="failed" />
  <ul v-if="known.length" class="sheet">
    <li v-for="a in known" :key="a.mark"><span class="quiet">○ known until {{ localDate(a.until) }}</span>
      <span>{{ a.title }} <code class="quiet">{{ a.code }}</code><br />
        <span class="quiet">{{ a.who }}: {{ a.remark }}</span></span>
      <el-button size="small" @click="withdraw(a)">Let it count again</el-button></li>
  </ul>
</template>

<style scoped>
ul { list-style: none; margin: 12px 0; padding: 4px 16px }
li { display: grid; grid-template-columns: 200px 1fr auto; gap: 16px; align-items: start; padding: 8px 0 }
</style>
