<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, because, take } from '../api/client'
import DifferenceTable from '../components/DifferenceTable.vue'
import FactList from '../components/FactList.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { local, named } from '../composables/words'

const props = defineProps<{ id: string }>()
const router = useRouter()
const why = ref('')
const { failed, act } = useAct()
const { data, problem } = useLoad(() => take(api.GET('/api/v1/history/{id}',
  { params: { path: { id: Number(props.id) } } })), () => props.id)
const facts = computed(() => (data.value?.values ?? []).filter((v) => v.value !== '' &&
  v.value !== 'false').map((v) => ({ label: named(v), value: v.value, plain: true })))

/** Of providers and applications the last change can be taken back. */
const undoable = computed(() => data.value?.restorable && data.value.kind !== 'aggregate' && !data.value.later)
/** What taking it back comes to. */
const back = computed(() => {
  if (data.value?.batch) return `It was made together with others (from change ${data.value.batch} on); all of them ` +
    'are taken back, or none if one was changed since.'
  return data.value?.what === 'added' ? 'The record is removed again.' : 'The record becomes what it was before.'
})
const undo = () => act(async () => {
  const u = await because(why.value, () => take(api.POST('/api/v1/history/{id}/undo',
    { params: { path: { id: Number(props.id) } } })))
  await router.push(`/keep/history/${u.change}`)
})
const restore = () => act(async () => {
  const t = await because(why.value, () => take(api.POST('/api/v1/history/{id}/restore',
    { params: { path: { id: Number(props.id) } } })))
  await router.push(`/connect/${t.kind}s/${t.name}`)
})
</script>

<template>
  <ProblemBox :problem="problem ?? failed" />
  <template v-if="data">
    <div class="head">
      <div>
        <h1>{{ data.kind }} {{ data.name }}: {{ data.what }}</h1>
        <p>by {{ data.who }}, <time :datetime="data.at" :title="data.at">{{ local(data.at) }}</time>
          <template v-if="data.revision">, revision {{ data.revision }}</template></p>
      </div>
      <router-link v-if="data.restorable" :to="`/connect/${data.kind}s/${data.name}`">
        <el-button>The record as it is</el-button></router-link>
    </div>
    <p v-if="data.why"><strong>Why:</strong> {{ data.why }}</p>
    <template v-if="data.what !== 'added'">
      <h2>Before and after</h2>
      <DifferenceTable :differences="data.differences ?? []" empty="This change left nothing to compare." />
    </template>
    <template v-if="undoable">
      <h2>Take it back</h2>
      <p class="quiet">{{ back }}</p>
      <p class="tools"><el-input v-model="why" name="undo-why" placeholder="Why (optional, kept in the history)"
          aria-label="Why it is taken back" style="width: 360px" /><el-button @click="undo">Take it back</el-button></p>
    </template>
    <p v-if="data.later" class="quiet">The record was changed since:
      <router-link :to="`/keep/history/${data.later}`">change {{ data.later }}</router-link>.</p>
    <template v-if="data.restorable && (data.later || data.kind === 'aggregate')">
      <h2>Set it back to this revision</h2>
      <p class="quiet">{{ data.fromNow?.length ? 'This is what would change in the record as it is now.' : 'The record is as it was then; there is nothing to set back.' }}</p>
      <template v-if="data.fromNow?.length">
        <DifferenceTable :differences="data.fromNow" />
        <p class="tools set"><el-input v-model="why" name="why" placeholder="Why (optional, kept in the history)"
            aria-label="Why" style="width: 360px" /><el-button type="primary" @click="restore">Restore</el-button></p>
      </template>
    </template>
    <template v-if="facts.length">
      <h2>The record after this change</h2>
      <FactList :facts="facts" />
    </template>
  </template>
</template>

<style scoped>
.set { margin-top: 12px }
</style>
