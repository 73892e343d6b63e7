<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, take, type Person, type Schemas } from '../api/client'
import ConsequenceNote from './ConsequenceNote.vue'
import CopyValue from './CopyValue.vue'
import ProblemBox from './ProblemBox.vue'
import { useAct } from '../composables/act'
import { done as words, people } from '../composables/words'

/** Does one thing to the people who are chosen, once it was looked at what that comes to. */
const props = defineProps<{ chosen: Person[], groups: { name: string, title: string }[] }>()
const emit = defineEmits<{ changed: [] }>()
type Change = Schemas['PeopleChange']
const group = ref('')
const seen = ref<{ change: Change, what: Schemas['PeopleChanged'], does: string }>()
const did = ref<{ what: Schemas['PeopleChanged'], does: string }>()
const { busy, failed, act } = useAct()
const numbers = computed(() => props.chosen.map((p) => p.number))
watch(numbers, (now, was) => { if (now.join() !== was.join()) seen.value = undefined })
const call = (body: Change) => take(api.POST('/api/v1/people/changes', { body }))
const look = (does: string, change: Omit<Change, 'people'>) => act(async () => {
  did.value = undefined
  const whole = { ...change, people: { numbers: numbers.value } } as Change
  seen.value = { change: whole, what: await call(whole), does }
})
const go = () => act(async () => {
  const { change, what, does } = seen.value!
  did.value = { what: await call({ ...change, digest: what.digest }), does }
  seen.value = undefined
  emit('changed')
})
const acts = computed(() => (seen.value ? seen.value.what.people - seen.value.what.same : 0))
const consequence = computed(() => seen.value?.what.consequence)
</script>

<template>
  <section v-if="chosen.length || did || failed" class="sheet many" aria-label="What is done to those who are chosen">
    <div v-if="chosen.length" class="tools">
      <strong>{{ people(chosen.length) }} chosen</strong>
      <el-button :loading="busy" @click="look('disabled', { do: 'disable' })">Disable</el-button>
      <el-button :loading="busy" @click="look('enabled', { do: 'enable' })">Enable</el-button>
      <el-select v-model="group" filterable placeholder="a group" aria-label="Group to join" style="width: 170px">
        <el-option v-for="g in groups" :key="g.name" :value="g.name" :label="g.title" /></el-select>
      <el-button :disabled="!group" :loading="busy" @click="look('changed', { do: 'set', set: { join: [{ kind: 'group', name: group }] } })">Join to the group</el-button>
      <el-button type="danger" plain :loading="busy" @click="look('removed', { do: 'remove' })">Remove</el-button>
    </div>
    <ProblemBox :problem="failed" />
    <div v-if="seen" class="seen" aria-live="polite">
      <p><strong>{{ people(acts) }} would be {{ seen.does }}.</strong> {{ seen.what.same ? `Nothing becomes of ${seen.what.same} more.` : '' }}
        {{ seen.what.sessions }} sessions and {{ seen.what.grants }} grants would end.</p>
      <ConsequenceNote v-if="consequence" :change="() => seen" :ask="async () => consequence" at-once />
      <ul v-if="seen.what.listed?.length"><li v-for="r in seen.what.listed.slice(0, 8)" :key="r.person">{{ r.name }}: {{ words(r.did) }}</li>
        <li v-if="acts > 8" class="quiet">and {{ acts - 8 }} more</li></ul>
      <p v-if="seen.what.back" class="quiet">To take it back: {{ seen.what.back }}</p>
      <p class="tools"><el-button :type="seen.change.do === 'enable' ? 'primary' : 'danger'" :disabled="!acts" :loading="busy" @click="go">
        {{ { disable: 'Disable', enable: 'Enable', remove: 'Remove', set: 'Change' }[seen.change.do] }} {{ people(acts) }}</el-button>
        <el-button @click="seen = undefined">Leave it</el-button></p>
    </div>
    <p v-if="did" role="status"><span class="passed">● {{ people(did.what.people - did.what.same) }} {{ did.does }}</span>; {{ did.what.sessions }} sessions and {{ did.what.grants }} grants ended.
      To take it back: <CopyValue :value="did.what.back" name="How to take it back" /></p>
  </section>
</template>

<style scoped>
.many { padding: 12px 16px; margin: 0 0 12px }
.many .tools { margin: 0 }
.seen { margin-top: 12px }
</style>
