<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '../api/client'

type Hit = { value: string; kind: string; path: string }
const router = useRouter()
const text = ref('')
const box = ref<{ focus: () => void }>()
defineExpose({ focus: () => box.value?.focus() })

async function find(search: string, show: (hits: Hit[]) => void) {
  if (search.trim() === '') return show([])
  const query = { search: search.trim(), limit: 6 }
  try {
    const [apps, providers, traces] = await Promise.all([
      take(api.GET('/api/v1/applications', { params: { query } })),
      take(api.GET('/api/v1/providers', { params: { query } })),
      take(api.GET('/api/v1/traces', { params: { query } })),
    ])
    show([
      ...(apps.items ?? []).map((a) => ({ value: a.title, kind: `application ${a.name}`, path: `/connect/applications/${a.name}` })),
      ...(providers.items ?? []).map((p) => ({ value: p.title, kind: `provider ${p.name}`, path: `/connect/providers/${p.name}` })),
      ...(traces.items ?? []).map((t) => ({ value: t.id, kind: `trace, ${t.result}, ${t.person ?? t.application ?? ''}`, path: `/watch/traces/${t.id}` })),
    ])
  } catch {
    show([])
  }
}

function go(hit: Record<string, unknown>) {
  text.value = ''
  void router.push(String(hit.path))
}
</script>

<template>
  <div class="find"><el-autocomplete ref="box" v-model="text" :fetch-suggestions="find" :trigger-on-focus="false" placeholder="Find anything ( / )" aria-label="Find an object, an entity ID, a person or a reference number" highlight-first-item @select="go">
    <template #default="{ item }">
      <span>{{ item.value }}</span> <span class="quiet kind">{{ item.kind }}</span>
    </template>
  </el-autocomplete></div>
</template>

<style scoped>
.find { width: 280px }
.kind { margin-left: 8px; font-size: 12px }
</style>
