<script setup lang="ts">
import { computed } from 'vue'
import { ofRecords, useConsequence, type Asks } from '../composables/consequence'
import { people, signIns } from '../composables/words'

/** What a change that is being typed would do to people, before it is saved. */
const props = defineProps<{ change: () => unknown; ask?: Asks<unknown>; atOnce?: boolean }>()
const { got, busy } = useConsequence(() => props.change() ?? undefined, (c) => (props.ask ?? (ofRecords as Asks<unknown>))(c))
const parts = computed(() => {
  const c = got.value
  return c ? [{ n: c.shut, words: 'would be refused', tone: 'refused' }, { n: c.renamed, words: 'would have another name', tone: 'waiting' },
    { n: c.held, words: 'would be asked something first', tone: 'waiting' },
    { n: c.let, words: 'would be let in', tone: 'passed' },
    { n: c.cast ?? 0, words: 'would enter with other roles', tone: 'waiting' },
    { n: c.told, words: 'about whom the application would hear other values', tone: 'note' }].filter((p) => p.n) : []
})
const tones: Record<string, string> = { refused: 'refused', renamed: 'waiting', 'asked first': 'waiting', 'told otherwise': 'note', 'let in': 'passed', 'other roles': 'waiting' }
</script>

<template>
  <section v-if="busy || got?.looked || got?.known || got?.offered?.length || got?.ways || got?.finding" class="impact" aria-label="What it does to people" aria-live="polite">
    <p v-if="busy" class="quiet">Looking at what it does to people …</p>
    <template v-else-if="got">
      <p v-if="parts.length"><strong>Of {{ got.known ? `${people(got.known)} who are known` : `${people(got.seen)} who signed in lately` }}:</strong> <template v-for="(p, i) in parts" :key="p.words"><template
          v-if="i">, </template><span :class="p.tone">{{ p.n }} {{ p.words }}</span></template>.</p>
      <p v-else-if="got.looked && !got.cannotTell && !got.finding"><span class="passed">● No difference</span> to the {{ people(got.seen) }} who signed in lately.</p>
      <p v-for="r in got.roles ?? []" :key="r.application + r.role">The role <code>{{ r.role }}</code> of {{ r.application }}: <span :class="{ passed: r.gain }">{{ r.gain }} would gain it</span>,
        <span :class="{ refused: r.lose }">{{ r.lose }} would lose it</span>.</p>
      <ul v-if="got.people?.length">
        <li v-for="p in got.people.slice(0, 6)" :key="p.name + p.application"><span :class="tones[p.what]">{{ p.what }}</span> {{ p.name }} at {{ p.application }}
          <router-link v-if="p.trace" :to="`/watch/traces/${p.trace}`">{{ p.trace }}</router-link>
          <small v-for="d in p.differences?.slice(0, 3)" :key="d.label">{{ d.label }}: <del v-if="d.before">{{ d.before }}</del> <ins>{{ d.after || 'no longer told' }}</ins></small></li>
      </ul>
      <p v-if="got.known && !parts.length && !got.looked" class="quiet">Nobody gains or loses entry, of {{ people(got.known) }} who are known.</p>
      <p v-if="got.ways"><strong>By which provider people come:</strong> {{ got.ways.keep }} keep their way, <span :class="{ waiting: got.ways.other }">{{ got.ways.other }} get another</span>,
        <span :class="{ refused: got.ways.none }">{{ got.ways.none }} have none</span>.</p>
      <ul v-if="got.ways?.examples?.length"><li v-for="x in got.ways.examples.slice(0, 6)" :key="x">{{ x }}</li></ul>
      <p v-for="o in got.offered ?? []" :key="o.provider"><code>{{ o.provider }}</code> would be offered at {{ o.applications?.join(', ') }}.</p>
      <p v-if="got.offered?.length">{{ people(got.choosing ?? 0) }} who may enter there would gain a choice.</p>
      <p v-if="got.cannotTell" class="quiet">{{ signIns(got.cannotTell) }} cannot be told: {{ got.cause }}.</p>
      <p v-if="got.finding && !got.shut && !got.renamed" class="refused">{{ got.finding.title }}.
        <template v-for="e in got.finding.evidence ?? []" :key="e.found">{{ e.label }}: <code>{{ e.found }}</code> </template></p>
      <p v-if="got.finding && !atOnce" class="quiet">Saving asks you to confirm this.</p>
      <p v-if="got.stopped" class="quiet">Older sign-ins were not looked at.</p>
    </template>
  </section>
</template>

<style scoped>
.impact { border-left: 4px solid var(--waiting); padding: 6px 12px; margin: 12px 0; background: var(--sheet); text-align: left }
p { margin: 0 0 4px }
ul { margin: 0 0 4px; padding-left: 18px }
small { display: block; color: var(--quiet); overflow-wrap: anywhere }
del { color: var(--quiet) }
ins { text-decoration: none; font-weight: 600 }
</style>
