<script setup lang="ts">
import type { Difference } from '../api/client'
import { parts } from '../composables/differ'
import { named } from '../composables/words'

/** Values side by side; those that are bound to differ are greyed. */
defineProps<{ differences: (Difference & { bound?: boolean })[]; empty?: string; heads?: [string, string] }>()
const split = (d: Difference) => parts(d.before ?? '', d.after ?? '')
</script>

<template>
  <p v-if="!differences.length" class="quiet">{{ empty ?? 'Nothing differs.' }}</p>
  <table v-else class="sheet">
    <thead><tr><th>Value</th><th>{{ heads?.[0] ?? 'Before' }}</th><th>{{ heads?.[1] ?? 'After' }}</th></tr></thead>
    <tbody>
      <tr v-for="(d, i) in differences" :key="i" :class="{ bound: d.bound }">
        <th scope="row">{{ named(d) }}</th>
        <td><code v-if="d.before">
          <template v-if="d.after">{{ split(d)[0][0] }}<del>{{ split(d)[0][1] }}</del>{{ split(d)[0][2] }}</template>
            <template v-else>{{ d.before }}</template></code><span v-else class="quiet">nothing</span></td>
        <td><code v-if="d.after">
          <template v-if="d.before">{{ split(d)[1][0] }}<ins>{{ split(d)[1][1] }}</ins>{{ split(d)[1][2] }}</template>
            <template v-else>{{ d.after }}</template></code><span v-else class="quiet">nothing</span></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table { border-collapse: collapse; width: 100%; table-layout: fixed }
th, td { text-align: left; vertical-align: top; padding: 8px 16px; border-bottom: 1px solid var(--line); overflow-wrap: anywhere }
thead th { color: var(--quiet); font-weight: 600 }
tbody tr:last-child > * { border-bottom: 0 }
tbody th { font-weight: 400; color: var(--quiet) }
th:first-child { width: 236px }
del { background: color-mix(in srgb, var(--refused) 20%, transparent); text-decoration: line-through }
tr.bound td { color: var(--quiet) }
tr.bound :is(del, ins) { background: none; text-decoration: none }
ins { background: color-mix(in srgb, var(--passed) 22%, transparent); text-decoration: underline }
@media (max-width: 700px) {
  th, td { padding: 8px }
  th:first-child { width: 34% }
}
</style>
