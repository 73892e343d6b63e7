<script setup lang="ts">
import type { Finding } from '../api/client'

const props = defineProps<{ finding: Finding }>()
const words: Record<string, string> = { error: 'Refused', warning: 'Warning', note: 'Note' }
const tone: Record<string, string> = { error: 'refused', warning: 'waiting', note: 'note' }

/** Splits found into the part that is the same as expected, the differing middle, and the same rest. */
function parts(expected: string, found: string) {
  let head = 0
  while (head < expected.length && head < found.length && expected[head] === found[head]) head++
  let tail = 0
  while (tail < expected.length - head && tail < found.length - head && expected.at(-1 - tail) === found.at(-1 - tail)) tail++
  const cut = (s: string) => [s.slice(0, head), s.slice(head, s.length - tail), s.slice(s.length - tail)] as const
  return { expected: cut(expected), found: cut(found) }
}
const where = () => ({ gate: 'Here at the gate', browser: 'The person', provider: 'At the provider', application: 'At the application' })[props.finding.side as string] ?? 'At the other side'
</script>

<template>
  <section class="finding" :class="tone[finding.severity]" :aria-label="`${words[finding.severity]}: ${finding.title}`">
    <p class="title"><strong>{{ words[finding.severity] }}:</strong> {{ finding.title }} <code>{{ finding.code }}</code></p>
    <table v-if="finding.evidence?.length">
      <tbody>
        <template v-for="e in finding.evidence" :key="e.label">
          <template v-if="e.expected">
            <tr><th>{{ e.label }} expected</th><td><code>{{ parts(e.expected, e.found ?? '').expected[0] }}<mark>{{ parts(e.expected, e.found ?? '').expected[1] }}</mark>{{ parts(e.expected, e.found ?? '').expected[2] }}</code></td></tr>
            <tr><th>{{ e.label }} found</th><td><code v-if="e.found">{{ parts(e.expected, e.found).found[0] }}<mark>{{ parts(e.expected, e.found).found[1] }}</mark>{{ parts(e.expected, e.found).found[2] }}</code><span v-else>nothing</span></td></tr>
          </template>
          <tr v-else><th>{{ e.label }}</th><td><code>{{ e.found }}</code></td></tr>
        </template>
      </tbody>
    </table>
    <p class="remedy"><strong>{{ where() }}:</strong> {{ finding.remedy }}</p>
  </section>
</template>

<style scoped>
.finding { background: var(--sheet); border: 1px solid var(--line); border-left: 4px solid currentColor; border-radius: 4px; padding: 12px 16px; margin: 12px 0 }
.finding > * { color: var(--ink) }
.title { margin: 0 0 8px }
.title strong { color: inherit }
.refused .title strong { color: var(--refused) }
.waiting .title strong { color: var(--waiting) }
.note .title strong { color: var(--note) }
.title code { color: var(--quiet); margin-left: 8px }
.remedy { margin: 0 }
table { border-collapse: collapse; margin: 0 0 8px }
th { text-align: left; font-weight: 400; color: var(--quiet); padding: 2px 16px 2px 0; white-space: nowrap; vertical-align: top }
td { overflow-wrap: anywhere }
mark { background: color-mix(in srgb, var(--refused) 22%, transparent); color: inherit; text-decoration: underline }
</style>
