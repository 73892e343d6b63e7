<script setup lang="ts">
import { computed } from 'vue'
import type { TraceStep } from '../api/client'
import { short } from '../composables/words'

const props = defineProps<{ steps: TraceStep[]; started: string; selected: number }>()
const emit = defineEmits<{ select: [index: number] }>()

const lanes = ['browser', 'application', 'gate', 'provider'] as const
const x = (lane: string) => 70 + 180 * lanes.indexOf(lane as (typeof lanes)[number])
const rowHeight = 46
const top = 52
const height = computed(() => top + props.steps.length * rowHeight + 12)
const firstFailure = computed(() => props.steps.findIndex((s) => s.finding))

/** The message and its binding, as far as both fit between two lanes; of many steps in one, how many. */
const labelled = (s: TraceStep) => {
  const together = s.name.split(', ').length
  if (together > 2) return `${s.name.split(':')[0]}: ${together} steps`
  const whole = s.binding ? `${s.name} · ${short(s.binding).replace('HTTP-', '')}` : s.name
  return whole.length > 25 && s.from !== s.to ? s.name : whole
}

const rows = computed(() =>
  props.steps.map((s, i) => {
    const here = s.from === s.to
    const refused = s.finding !== undefined && s.finding !== null
    const noted = !refused && (s.checks ?? []).some((c) => c.finding)
    return {
      i, here, refused, noted,
      y: top + i * rowHeight + 26,
      x1: x(s.from), x2: x(s.to),
      name: labelled(s),
      pale: firstFailure.value >= 0 && i > firstFailure.value,
      ms: Date.parse(s.at) - Date.parse(props.started),
      mark: refused ? 'refused' : noted ? 'note' : 'ok',
    }
  }),
)
</script>

<template>
  <svg :viewBox="`0 0 680 ${height}`" role="group"
      aria-label="Lanes of this crossing: browser, application, gate, provider. The list beside says the same.">
    <g v-for="l in lanes" :key="l">
      <line :x1="x(l)" :x2="x(l)" y1="34" :y2="height - 8" :class="['lane', l]" />
      <text :x="x(l)" y="22" class="lane-name" :class="l">{{ l }}</text>
    </g>
    <g v-for="r in rows" :key="r.i" class="row"
        :class="{ pale: r.pale, refused: r.refused, noted: r.noted, selected: r.i === selected }"
       tabindex="0" role="button" :aria-pressed="r.i === selected"
       @click="emit('select', r.i)" @keydown.enter.prevent="emit('select', r.i)" @keydown.space.prevent="emit('select',
         r.i)">
      <rect x="2" :y="r.y - 25" width="676" :height="rowHeight - 4" rx="4" class="ground" />
      <text x="8" :y="r.y + 5" class="time">{{ r.ms }} ms</text>
      <template v-if="r.here">
        <rect v-if="r.refused" :x="x('gate') - 7" :y="r.y - 7" width="14" height="14" class="mark" />
        <circle v-else :cx="x('gate')" :cy="r.y" r="6" class="mark" />
        <text :x="x('gate') + 16" :y="r.y + 5" class="label start">{{ r.name }}</text>
      </template>
      <template v-else>
        <line :x1="r.x1" :x2="r.x2 + (r.x2 > r.x1 ? -9 : 9)" :y1="r.y" :y2="r.y" class="arrow" />
        <path :d="r.x2 > r.x1 ? `M${r.x2 - 10} ${r.y - 5}L${r.x2 - 1} ${r.y}l-9 5z` : `M${r.x2 + 10} ${r.y - 5}L${r.x2 + 1} ${r.y}l9 5z`" class="tip" />
        <text :x="(r.x1 + r.x2) / 2" :y="r.y - 7" class="label">{{ r.name }}</text>
      </template>
      <text x="8" :y="r.y + 5" class="unseen">, {{ r.mark }}</text>
      <g v-if="r.refused"><path :d="`M${(r.here ? x('gate') : r.x2) - 5} ${r.y - 5}l10 10m0 -10l-10 10`" class="cross"
          /></g>
    </g>
  </svg>
</template>

<style scoped>
svg { width: 100%; display: block; font: 12px var(--sans) }
.lane { stroke: var(--line); stroke-width: 2 }
.lane.gate { stroke: var(--gate) }
.lane-name { text-anchor: middle; fill: var(--quiet); font-weight: 600 }
.lane-name.gate { fill: var(--gate) }
.unseen { fill: transparent; font-size: 1px }
.row { cursor: pointer; outline: none }
.ground { fill: transparent }
.row:hover .ground { fill: color-mix(in srgb, var(--gate) 6%, transparent) }
.selected .ground { fill: color-mix(in srgb, var(--gate) 12%, transparent) }
.row:focus-visible .ground { stroke: var(--gate); stroke-width: 2 }
.time { fill: var(--quiet); font-size: 11px }
.label { text-anchor: middle; fill: var(--ink) }
.label.start { text-anchor: start }
.arrow { stroke: var(--ink); stroke-width: 1.5 }
.tip { fill: var(--ink) }
.mark { fill: var(--sheet); stroke: var(--passed); stroke-width: 2.5 }
.noted .mark { stroke: var(--note) }
.refused .mark { fill: var(--refused); stroke: var(--refused) }
.refused .arrow { stroke: var(--refused); stroke-width: 3 }
.refused .tip, .refused .label { fill: var(--refused); font-weight: 700 }
.cross { stroke: var(--refused); stroke-width: 3; fill: none }
.refused .mark + .label { fill: var(--refused) }
.pale .arrow, .pale .mark { opacity: .45 }
.pale .label, .pale .tip { opacity: .7 }
</style>
