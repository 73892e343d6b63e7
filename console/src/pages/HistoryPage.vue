<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Change } from '../api/client'
import ChangeList from '../components/ChangeList.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useLoad } from '../composables/load'

const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const search = ref(text(route.query.search))
const kind = computed(() => text(route.query.kind))
const name = computed(() => text(route.query.name))
watch(search, (s) => router.replace({ query: { ...route.query, search: s || undefined } }))
const older = ref<Change[]>([])
const ask = (before?: number) =>
  take(api.GET('/api/v1/history', { params: { query: { kind: kind.value || undefined, name: name.value || undefined,
  search: search.value || undefined, limit: 100, before } } }))
const { data, problem } = useLoad(() => { older.value = []; return ask() }, () => [kind.value, name.value,
  search.value])
const all = computed(() => [...(data.value?.items ?? []), ...older.value])
async function more() {
  older.value = [...older.value, ...((await ask(all.value.at(-1)?.id)).items ?? [])]
}
const kinds = ['', 'application', 'provider', 'aggregate', 'key', 'ranking', 'token', 'owner']
</script>

<template>
  <div class="head">
    <div>
      <h1>History</h1>
      <p>Every change: who, when, what and why. Any revision of a provider, application or aggregate can be
        looked at and restored.</p>
    </div>
  </div>
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Name, who, what, why" aria-label="Search" style="width: 320px" />
    <router-link v-for="k in kinds" :key="k" class="filter" :class="{ here: k === kind }"
        :to="{ query: { ...route.query, kind: k || undefined } }">{{ k || 'all' }}</router-link>
    <router-link v-if="name" class="filter here" :to="{ query: { ...route.query, name: undefined } }">{{ name }}
      ✕</router-link>
    <span v-if="data" class="quiet">{{ data.total }} changes</span>
  </div>
  <ProblemBox :problem="problem" />
  <ChangeList :changes="all" />
  <p v-if="data && all.length < data.total" class="tools"><el-button @click="more">Show older ones</el-button></p>
</template>
