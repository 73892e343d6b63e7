<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, take, type Schemas } from '../api/client'
import FindingBox from './FindingBox.vue'
import ProblemBox from './ProblemBox.vue'
import { useAct } from '../composables/act'
import { ago, local } from '../composables/words'

/** The test account with which a rehearsal runs by itself. */
const props = defineProps<{ rehearsal: Schemas['Rehearsal'] }>()
const emit = defineEmits<{ changed: [] }>()
const password = ref('')
const { busy, failed, act } = useAct({ done: () => { password.value = ''; emit('changed') } })
const path = computed(() => ({ params: { path: { name: props.rehearsal.name } } }))
const refused = computed(() => !!props.rehearsal.account?.refused && !props.rehearsal.account.refused.startsWith('0001'))
const next = computed(() => (props.rehearsal.next && !props.rehearsal.next.startsWith('0001') ? props.rehearsal.next : ''))
const give = () => act(() => take(api.PUT('/api/v1/rehearsals/{name}/password', { ...path.value, body: { password: password.value } })))
const forget = () => act(() => take(api.DELETE('/api/v1/rehearsals/{name}/password', path.value)))
const resume = () => act(() => take(api.POST('/api/v1/rehearsals/{name}/resume', path.value)))
</script>

<template>
  <section class="sheet account">
    <h2>Test account</h2>
    <ProblemBox :problem="failed" />
    <p v-if="!rehearsal.username">None. Set the user name of a test account (<em>Change</em>), and the gate goes through this sign-in by itself: on demand, on a schedule, after changes.</p>
    <template v-else>
      <p v-if="rehearsal.account"><code>{{ rehearsal.username }}</code> at {{ rehearsal.account.provider }}; its password was given
        <time :title="local(rehearsal.account.given)">{{ ago(rehearsal.account.given) }}</time> by {{ rehearsal.account.by }}, is kept sealed, and goes to forms at
        <template v-for="(h, i) in rehearsal.account.hosts" :key="h"><template v-if="i">, </template><code>{{ h }}</code></template> alone.
        <template v-if="next"> It runs by its schedule next at <time :title="next">{{ local(next) }}</time>.</template></p>
      <p v-else><code>{{ rehearsal.username }}</code> has no password on record. Give it, and the gate goes through this sign-in by itself.</p>
      <FindingBox v-if="refused && rehearsal.account?.finding" :finding="rehearsal.account.finding" />
      <form class="tools" @submit.prevent="give">
        <el-input v-model="password" type="password" autocomplete="off" maxlength="1000" style="width: 260px"
          :aria-label="`Password of ${rehearsal.username}`" :placeholder="rehearsal.account ? 'Another password' : 'Its password'" />
        <el-button native-type="submit" :disabled="!password" :loading="busy">Give the password</el-button>
        <el-button v-if="refused" @click="resume">Try it again as it is</el-button>
        <el-button v-if="rehearsal.account" @click="forget">Forget it</el-button>
      </form>
    </template>
  </section>
</template>

<style scoped>
.account { padding: 12px 16px; margin: 12px 0 }
.account h2 { margin: 0 0 4px }
</style>
