<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { ECharts } from 'echarts/core'
import { useRouter } from 'vue-router'
import type { Schemas } from '../api/client'
import { local } from '../composables/words'

/** What runs came to, and when: a row a rehearsal; or of one rehearsal, how long each took. */
const props = defineProps<{ runs: Schemas['PastRun'][]; one?: boolean; days: number }>()
const router = useRouter()
const place = ref<HTMLElement>()
let chart: ECharts | undefined
let lib: typeof import('../composables/chart') | undefined
const names = computed(() => [...new Set(props.runs.map((r) => r.rehearsal))].sort().reverse())
const count = (state: string) => props.runs.filter((r) => r.state === state).length
const words = computed(() => `${props.runs.length} ${props.runs.length === 1 ? 'run' : 'runs'} in ${props.days} days: ${count('passed')} passed, ${count('failed')} failed, ${count('stopped')} stopped`)
const height = computed(() => (props.one ? 220 : 60 + 30 * Math.max(1, names.value.length)))
function draw() {
  if (!place.value || !lib) return
  chart ??= lib.on(place.value)
  chart.resize({ height: height.value })
  const style = getComputedStyle(document.documentElement)
  const colour = (name: string) => style.getPropertyValue(`--${name}`).trim()
  const axis = { axisLine: { lineStyle: { color: colour('line') } }, axisLabel: { color: colour('quiet') }, splitLine: { lineStyle: { color: colour('line') } } }
  const looks = [['passed', 'passed', 'circle'], ['failed', 'refused', 'path://M0 0L10 10M10 0L0 10'], ['stopped', 'waiting', 'emptyCircle']] as const
  chart.setOption({
    animation: false, textStyle: { fontFamily: 'inherit' },
    grid: { left: props.one ? 56 : 190, right: 24, top: props.one ? 56 : 34, bottom: 28 },
    legend: { top: 0, left: 0, textStyle: { color: colour('ink') }, itemWidth: 12, itemHeight: 12, itemGap: 28 },
    tooltip: { backgroundColor: colour('sheet'), borderColor: colour('line'), textStyle: { color: colour('ink') },
      formatter: (p: { data: { of: Schemas['PastRun'] } }) => { const r = p.data.of; const text = document.createElement('span'); text.textContent = `${r.rehearsal}, run ${r.id}: ${r.state}${r.took ? `, ${(r.took / 1000).toFixed(2)} s` : ''}, ${local(r.ended)}`; return text } },
    xAxis: { type: 'time', min: Date.now() - props.days * 86_400_000, max: Date.now(), ...axis },
    yAxis: props.one ? { type: 'value', name: 'seconds', nameTextStyle: { color: colour('quiet') }, min: 0, ...axis }
      : { type: 'category', data: names.value, ...axis, splitLine: { show: true, lineStyle: { color: colour('line') } },
        axisLabel: { color: colour('ink'), width: 176, overflow: 'truncate' } },
    series: looks.map(([state, token, symbol]) => ({ name: state, type: 'scatter', symbol, symbolSize: state === 'failed' ? 11 : 10,
      itemStyle: state === 'failed' ? { color: 'transparent', borderColor: colour(token), borderWidth: 2.5 } : { color: colour(token), borderColor: colour(token) },
      data: props.runs.filter((r) => r.state === state).map((r) => ({ value: [Date.parse(r.ended), props.one ? (r.took ?? 0) / 1000 : r.rehearsal], of: r })) })),
  }, true)
  chart.off('click')
  chart.on('click', (p) => { const r = (p.data as { of: Schemas['PastRun'] }).of; void router.push({ path: `/rehearse/${r.rehearsal}`, query: { run: String(r.id) } }) })
}
const fits = () => chart?.resize()
const lights = matchMedia('(prefers-color-scheme: dark)')
onMounted(async () => {
  lib = await import('../composables/chart')
  draw()
  addEventListener('resize', fits)
  lights.addEventListener('change', draw)
})
onBeforeUnmount(() => {
  removeEventListener('resize', fits)
  lights.removeEventListener('change', draw)
  chart?.dispose()
})
watch(() => [props.runs, props.days, props.one], draw, { deep: true, flush: 'post' })
</script>

<template>
  <figure class="sheet runs"><figcaption>{{ words }}</figcaption>
    <div ref="place" role="img" :aria-label="words" :style="{ height: `${height}px` }" /></figure>
</template>

<style scoped>
.runs { padding: 12px 16px; margin: 12px 0 }
figcaption { color: var(--quiet); font-size: 13px; margin-bottom: 4px }
</style>
