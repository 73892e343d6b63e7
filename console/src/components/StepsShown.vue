<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { TraceStep } from '../api/client'
import CopyValue from './CopyValue.vue'
import CrossingLanes from './CrossingLanes.vue'
import { local, short } from '../composables/words'

/** The steps of a sign-in: its lanes, the step that is looked at beside them, and the same as a list. What grows is followed
 * until somebody looks at a step themselves. */
const props = defineProps<{ steps: TraceStep[]; started: string }>()
const selected = ref(0)
const chosen = ref(false)
const shown = ref<'decoded' | 'raw'>('decoded')
watch(() => props.steps, (all) => {
  if (chosen.value && selected.value < all.length) return
  const failed = all.findIndex((s) => s.finding)
  selected.value = failed >= 0 ? failed : Math.max(0, props.steps.length - 1)
}, { immediate: true })
const step = computed(() => props.steps[selected.value])
function select(i: number) {
  chosen.value = true
  selected.value = i
}
/** Marks the deciding parts of a decoded message. */
const parts = computed(() => (step.value?.octets ?? '').split(/(<(?:[\w.-]+:)?(?:Issuer|Audience|NameID|StatusCode|AuthnContextClassRef)\b[^>]*>[^<]*|\b(?:InResponseTo|Destination|Recipient|NotOnOrAfter|NotBefore|AssertionConsumerServiceURL|Algorithm)="[^"]*")/))
</script>

<template>
  <div class="both">
    <section class="sheet picture"><CrossingLanes :steps="steps" :started="started" :selected="selected"
        @select="select" /></section>
    <section v-if="step" class="sheet detail" aria-live="polite">
      <h2>{{ step.name }} <span v-if="step.binding" class="quiet">by {{ short(step.binding) }}</span></h2>
      <p class="quiet">{{ step.from === step.to ? 'at the gate' : `${step.from} → ${step.to}` }}<template
          v-if="step.relayState"> · RelayState <code>{{ step.relayState }}</code></template></p>
      <table v-if="step.values?.length" class="values">
        <caption>{{ step.from === 'gate' ? 'What was sent' : 'What was asked for' }}</caption>
        <tbody><tr v-for="(v, i) in step.values" :key="i"><th scope="row">{{ v.label }}</th>
          <td><code>{{ v.value }}</code></td></tr></tbody>
      </table>
      <ul v-if="step.checks?.length" class="checks">
        <li v-for="(c, i) in step.checks" :key="i">
          <template v-if="!c.finding"><span class="passed">✓</span> {{ c.what }} <code>{{ c.found }}</code></template>
          <template v-else>
            <span :class="c.finding.severity === 'error' ? 'refused' : 'note'">{{ c.finding.severity === 'error' ? '✕' : '!' }}</span> {{ c.what }}: {{ c.finding.title }}<span v-if="c.finding.severity !== 'error'" class="quiet"> {{ c.finding.remedy }}</span></template>
        </li>
      </ul>
      <template v-if="step.octets || step.raw">
        <div class="tools">
          <el-radio-group v-if="step.raw" v-model="shown" size="small" aria-label="Form of the message">
            <el-radio-button value="decoded">Decoded</el-radio-button>
              <el-radio-button value="raw">As it travelled</el-radio-button></el-radio-group>
          <span v-if="step.holdUntil && !step.holdUntil.startsWith('0001')" class="quiet">the signature value is held
            back until {{ local(step.holdUntil) }}</span>
        </div>
        <pre v-if="shown === 'decoded' || !step.raw" tabindex="0"><template v-for="(p, i) in parts" :key="i"><mark
          v-if="i % 2">{{ p }}</mark><template v-else>{{ p }}</template></template></pre>
        <p v-if="step.cut" class="quiet">{{ step.cut }} octets of this message were not kept.</p>
        <CopyValue v-if="shown === 'raw' && step.raw" :value="step.raw" name="message" />
      </template>
    </section>
  </div>
  <h2>The same as a list</h2>
  <ol class="sheet list">
    <li v-for="(s, i) in steps" :key="i" :class="{ refused: s.finding }">
      <a href="#main" @click.prevent="select(i)">{{ Date.parse(s.at) - Date.parse(started) }} ms ·
        {{ s.from === s.to ? 'at the gate' : `${s.from} → ${s.to}` }} · {{ s.name }}</a>
      <span v-if="s.finding"> · refused: {{ s.finding.title }}</span>
    </li>
  </ol>
</template>

<style scoped>
.both { display: grid; grid-template-columns: minmax(420px, 11fr) 10fr; gap: 16px; margin-top: 16px; align-items: start }
.picture { padding: 8px }
.detail { padding: 12px 16px; min-width: 0 }
.detail h2 { margin: 0 }
.values { border-collapse: collapse; margin: 0 0 12px; width: 100% }
.values caption { text-align: left; color: var(--quiet); padding-bottom: 4px }
.values th { text-align: left; font-weight: 400; padding: 2px 12px 2px 0; vertical-align: top; white-space: nowrap }
.values td { overflow-wrap: anywhere; width: 100% }
.checks { list-style: none; padding: 0; margin: 0 0 12px }
.checks li { overflow-wrap: anywhere }
.checks code { color: var(--quiet); margin-left: 4px }
pre { margin: 0; padding: 12px; background: var(--paper); border-radius: 4px; overflow: auto; max-height: 520px; font: 12px/1.5 var(--mono); white-space: pre-wrap; overflow-wrap: anywhere }
mark { background: color-mix(in srgb, var(--gate) 18%, transparent); color: inherit }
.list { margin: 0; padding: 12px 16px 12px 40px }
.list a { color: inherit }
@media (max-width: 1000px) { .both { grid-template-columns: 1fr } }
</style>
