<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { computed } from 'vue'
import { api, take } from '../api/client'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { ago, local } from '../composables/words'
import ProblemBox from './ProblemBox.vue'

/** How far a record is used: its phase, what waits, how a pilot goes, and one step back. */
const props = defineProps<{ kind: Kind['name']; name: string; revision: number }>()
const emit = defineEmits<{ changed: [] }>()
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/rollouts/{kind}/{name}', { params: { path: { kind: props.kind, name: props.name } } })),
  () => [props.kind, props.name, props.revision])
const { busy, failed, act } = useAct({ done: async () => { await load(); emit('changed') } })
const set = (settings: Record<string, string>) => act(() => kinds[props.kind].save({ name: props.name, revision: props.revision } as never, settings, ''))
async function back() {
  const leaves = { sessions: data.value?.sessions?.length ?? 0, made: data.value?.made?.length ?? 0 }
  const before = { phase: data.value?.before || 'live', cohort: data.value?.beforeCohort ?? '' }
  await set(data.value?.next ? { ...before, nextAt: '' } : before)
  if (!failed.value) {
    ElMessage({ message: `Gone back. It leaves ${many(leaves.sessions, 'open session')} and ${many(leaves.made, 'new account')}; disabling a person on their page ends theirs.`, duration: 0, showClose: true })
  }
}
const many = (n: number | undefined, word: string) => `${n ?? 0} ${word}${n === 1 ? '' : 's'}`
const words: Record<string, string> = { draft: '○ draft: it is being set up, nobody passes', pilot: '◐ pilot: a cohort passes', live: '● live: people pass',
  paused: '○ paused: nobody passes', retired: '– retired: nobody passes any more' }
const tones: Record<string, string> = { live: 'passed', pilot: 'note' }
const moved = computed(() => data.value && (data.value.phase !== 'live' || data.value.next || data.value.before))
</script>

<template>
  <section v-if="data && moved" class="sheet rollout" aria-label="How far it is used">
    <ProblemBox :problem="problem ?? failed" />
    <p><strong :class="tones[data.phase] ?? 'waiting'">{{ words[data.phase] }}</strong><template v-if="data.cohort && data.phase === 'pilot'">: <code>{{ data.cohort }}</code></template>
      <span class="quiet"> since <time :title="local(data.since)">{{ ago(data.since) }}</time></span></p>
    <p v-if="data.next" class="waiting">○ From <time :title="local(data.next.at)">{{ data.next.text }}</time> on: <strong>{{ data.next.phase }}</strong> <code v-if="data.next.cohort">{{ data.next.cohort }}</code>
      <el-button size="small" :loading="busy" @click="set({ nextAt: '' })">Withdraw</el-button>
      <span class="quiet beside">{{ data.next.told?.length ? `Mailed to ${data.next.told.join(', ')}.` : 'Nobody is mailed: there is no mail server, or no address in the owner’s field.' }}</span></p>
    <template v-if="data.phase === 'pilot'">
      <dl class="figures"><div><dt>in the cohort</dt><dd>{{ data.people }}</dd></div><div><dt>tried</dt><dd>{{ data.tried }}</dd></div>
        <div><dt>entered</dt><dd class="passed">{{ data.entered }}</dd></div><div><dt>refused at last</dt><dd :class="{ refused: data.refused }">{{ data.refused }}</dd></div>
      </dl>
      <p v-if="data.findings?.length">Refused by <span v-for="(f, i) in data.findings" :key="f.code">{{ i ? ', ' : '' }}<code>{{ f.code }}</code> {{ f.count }}</span>.</p>
      <p v-if="data.awaited?.length" class="quiet">Not come yet: <span v-for="(p, i) in data.awaited" :key="p.number">{{ i ? ', ' : '' }}<router-link :to="`/admit/people/${p.number}`">{{ p.name }}</router-link></span>{{ data.people - data.tried > data.awaited.length ? ' and more' : '' }}</p>
      <p class="quiet">The earlier way meanwhile: {{ data.old.people === 1 ? '1 person' : `${data.old.people} people` }}, {{ data.old.entered }} entered, {{ data.old.refused }} refused at last<template v-if="data.old.ofCohort">; {{ data.old.ofCohort }} of them in the cohort</template><template v-if="data.old.unknown">; {{ many(data.old.unknown, 'sign-in') }} of nobody who is known</template><template v-if="data.old.findings?.length">; refused by <span v-for="(f, i) in data.old.findings" :key="f.code">{{ i ? ', ' : '' }}<code>{{ f.code }}</code> {{ f.count }}</span></template>.</p>
    </template>
    <div v-if="data.inTheWay?.length"><strong>In the way of going live</strong>
      <ul class="obstacles"><li v-for="(o, i) in data.inTheWay" :key="i" :class="o.severity">{{ o.severity === 'error' ? '✗' : '!' }} {{ o.what }} <code v-if="o.code">{{ o.code }}</code></li></ul></div>
    <p v-else-if="data.phase === 'pilot'" class="passed">✓ Nothing is in the way of going live.</p>
    <p class="tools"><el-button :loading="busy" @click="back">{{ data.before ? (data.phase === 'paused' ? 'Resume' : 'Go back to') : 'Open:' }} {{ data.before || 'live' }}</el-button>
      <code v-if="data.before === 'pilot'" class="quiet">{{ data.beforeCohort }}</code>
      <span v-if="data.sessions?.length || data.made?.length" class="quiet">A step back leaves {{ many(data.sessions?.length, 'open session') }}, and {{ many(data.made?.length, 'new account') }}:
        <span v-for="(s, i) in data.sessions ?? []" :key="i">{{ i ? ', ' : '' }}<router-link :to="`/admit/people/${s.person}`">{{ s.name || s.person }}</router-link></span></span></p>
  </section>
</template>

<style scoped>
.rollout { padding: 8px 16px; margin: 12px 0 }
.rollout p { margin: 4px 0 }
.figures { display: flex; flex-wrap: wrap; gap: 8px 32px; margin: 8px 0 }
.beside { margin-left: 8px }
.obstacles { list-style: none; margin: 4px 0; padding: 0 }
.obstacles .error { color: var(--refused) }
.obstacles .warning { color: var(--waiting) }
.figures dt { color: var(--quiet); font-size: 12px }
.figures dd { margin: 0; font-size: 20px; font-weight: 600 }
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
.note { color: var(--note) }
</style>
