<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '../api/client'

/** A hit, and what was searched for when it was found. */
type Hit = { value: string; kind: string; path: string; search: string }
const router = useRouter()
const text = ref('')
const box = ref<{ focus: () => void }>()
defineExpose({ focus: () => box.value?.focus() })
/** What is typed now: hits for something else are on their way out. */
let typed = ''
let key = ''

async function find(text: string, show: (hits: Hit[]) => void) {
  const search = text.trim()
  if (search === '') return show([])
  const query = { search, limit: 6 }
  try {
    const [apps, providers, people, groups, organisations, rehearsals, traces] = await Promise.all([
      take(api.GET('/api/v1/applications', { params: { query } })),
      take(api.GET('/api/v1/providers', { params: { query } })),
      search.split(/\s+/).length > 6 ? { items: [] } : take(api.GET('/api/v1/people', { params: { query } })),
      take(api.GET('/api/v1/groups')),
      take(api.GET('/api/v1/organisations')),
      take(api.GET('/api/v1/rehearsals', { params: { query: { search } } })),
      take(api.GET('/api/v1/traces', { params: { query } })),
    ])
    if (search !== typed) return
    show([
      ...(apps.items ?? []).map((a) => ({ value: a.title, kind: `application ${a.name}`,
        path: `/connect/applications/${a.name}`, search })),
      ...(providers.items ?? []).map((p) => ({ value: p.title, kind: `provider ${p.name}`,
        path: `/connect/providers/${p.name}`, search })),
      ...(people.items ?? []).map((p) => ({ value: p.name, kind: `person ${p.number}${p.disabled ? ', disabled' : ''}`,
        path: `/admit/people/${p.number}`, search })),
      ...[...(groups.items ?? []), ...(organisations.items ?? [])].filter((u) => [u.name, u.title].some((v) => v.toLowerCase().includes(search.toLowerCase())))
        .slice(0, 6).map((u) => ({ value: u.title, kind: `${u.kind} ${u.name}`, path: `/admit/people?${u.kind}=${u.name}`, search })),
      ...(rehearsals.items ?? []).slice(0, 6).map((r) => ({ value: r.title, kind: `rehearsal ${r.name}`, path: `/rehearse/${r.name}`, search })),
      ...(traces.items ?? []).map((t) => ({ value: t.id,
        kind: `trace, ${t.result}, ${t.person ?? t.application ?? ''}`, path: `/watch/traces/${t.id}`, search })),
    ])
  } catch {
    show([])
  }
}

/** Opens a hit. Enter on the first of a list for less than what is typed by now waits for the list that belongs to it. */
function go(hit: Record<string, unknown>) {
  if (key === 'Enter' && hit.search !== typed) {
    text.value = typed
    return void find(typed, (hits) => hits[0] && open(hits[0]))
  }
  open(hit as Hit)
}
function open(hit: Hit) {
  text.value = typed = ''
  void router.push(hit.path)
}
function type(e: Event) {
  typed = (e.target as HTMLInputElement).value.trim()
  key = ''
}
/** Remembers how a hit is chosen: with the arrows or the mouse it is the one that is seen. */
function press(e: KeyboardEvent) {
  if (e.key !== 'Enter') key = e.key.startsWith('Arrow') ? 'Arrow' : key
  else if (key !== 'Arrow') key = 'Enter'
}
</script>

<template>
  <div class="find" @input.capture="type" @keydown.capture="press" @mousedown.capture="key = ''">
    <el-autocomplete ref="box" v-model="text" :fetch-suggestions="find" :trigger-on-focus="false"
        placeholder="Find anything ( / )" aria-label="Find an object, an entity ID, a person or a reference number"
            highlight-first-item @select="go">
    <template #default="{ item }">
      <span>{{ item.value }}</span> <span class="quiet kind">{{ item.kind }}</span>
    </template>
  </el-autocomplete></div>
</template>

<style scoped>
.find { width: 280px }
.kind { margin-left: 8px; font-size: 12px }
</style>
