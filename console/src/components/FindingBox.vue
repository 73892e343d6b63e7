<script setup lang="ts">
import { computed } from 'vue'
import type { Finding } from '../api/client'
import { parts } from '../composables/differ'

/** checked: found without a sign-in, so nothing was refused; bare: its title stands beside it already. */
const props = defineProps<{ finding: Finding; checked?: boolean; bare?: boolean }>()
const words = computed<Record<string, string>>(() => ({ error: props.checked ? 'Error' : 'Refused', warning: 'Warning',
  note: 'Note' }))
const tone: Record<string, string> = { error: 'refused', warning: 'waiting', note: 'note' }

const sides = computed(() => (props.finding.code.startsWith('changed-') ? ['before', 'after'] : ['expected', 'found']))
const split = (e: { expected?: string; found?: string }) => parts(e.expected ?? '', e.found ?? '')
const where = () => ({ gate: 'Here at the gate', browser: 'The person', provider: 'At the provider',
  application: 'At the application' })[props.finding.side as string] ?? 'At the other side'
</script>

<template>
  <section class="finding" :class="tone[finding.severity]" :aria-label="`${words[finding.severity]}: ${finding.title}`">
    <p v-if="!bare" class="title"><strong>{{ words[finding.severity] }}:</strong> {{ finding.title }}
      <code>{{ finding.code }}</code></p>
    <table v-if="finding.evidence?.length">
      <tbody>
        <template v-for="(e, i) in finding.evidence" :key="i">
          <template v-if="e.expected">
            <tr><th>{{ e.label }} {{ sides[0] }}</th>
              <td><code>{{ split(e)[0][0] }}<mark>{{ split(e)[0][1] }}</mark>{{ split(e)[0][2] }}</code></td></tr>
            <tr><th>{{ e.label }} {{ sides[1] }}</th>
              <td><code v-if="e.found">{{ split(e)[1][0] }}<mark>{{ split(e)[1][1] }}</mark>{{ split(e)[1][2] }}</code>
                <span v-else>nothing</span></td></tr>
          </template>
          <tr v-else><th>{{ e.label }}</th><td><code>{{ e.found }}</code></td></tr>
        </template>
      </tbody>
    </table>
    <p class="remedy"><strong>{{ where() }}:</strong> {{ finding.remedy }}</p>
    <slot />
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
