<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import FindAnything from './components/FindAnything.vue'
import MarkSign from './components/MarkSign.vue'
import { session } from './composables/session'

const route = useRoute()
const router = useRouter()
const finder = ref<InstanceType<typeof FindAnything>>()
const inside = computed(() => session.username.value !== '' && !route.meta.open)

const verbs = [
  { name: 'Connect', path: '/connect', pages: [['Connections', '/connect'], ['Applications', '/connect/applications'],
    ['Providers', '/connect/providers'], ['Aggregates', '/connect/aggregates']] },
  { name: 'Map', path: '/map', pages: [['Mappings', '/map'], ['Sets', '/map/sets']] },
  { name: 'Admit', path: '/admit', pages: [['People', '/admit/people'], ['Groups', '/admit/groups'],
    ['Organisations', '/admit/organisations'], ['Rules', '/admit/rules'], ['Roles', '/admit/roles'], ['Selection', '/admit/selection'], ['Portal', '/admit/portal'], ['Requests', '/admit/requests'], ['Import', '/admit/import']] },
  { name: 'Rehearse', path: '/rehearse', pages: [['Rehearsals', '/rehearse']] },
  { name: 'Watch', path: '/watch', pages: [['Traces', '/watch/traces'], ['Live', '/watch/live'], ['Checks', '/watch/checks'], ['Notices', '/watch/notices'], ['Events', '/watch/events']] },
  { name: 'Keep', path: '/keep', pages: [['Keys', '/keep/keys'], ['Contexts', '/keep/contexts'],
    ['Objects', '/keep/objects'], ['Links', '/keep/links'], ['History', '/keep/history'], ['Tokens', '/keep/tokens'], ['Owners', '/keep/owners']] },
] as const
const verb = computed(() => verbs.find((v) => route.path.startsWith(v.path)))

function key(e: KeyboardEvent) {
  const at = e.target as HTMLElement
  if (e.key !== '/' || at.matches('input, textarea, select, [contenteditable]')) return
  e.preventDefault()
  finder.value?.focus()
}
onMounted(() => window.addEventListener('keydown', key))
onUnmounted(() => window.removeEventListener('keydown', key))

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <a class="skip" href="#main">Skip to the page</a>
  <header v-if="inside">
    <router-link to="/connect" class="brand"><MarkSign /> Inner Gate</router-link>
    <nav aria-label="Work">
      <router-link v-for="v in verbs" :key="v.path" :to="v.path" :class="{ here: v === verb }"
          :aria-current="v === verb ? 'true' : undefined">{{ v.name }}</router-link>
    </nav>
    <FindAnything ref="finder" />
    <span class="quiet user">{{ session.username.value }}</span>
    <el-button size="small" @click="leave">Sign out</el-button>
  </header>
  <nav v-if="inside && verb && verb.pages.length > 1" class="pages" :aria-label="verb.name">
    <router-link v-for="[name, path] in verb.pages" :key="path" :to="path"
        :class="{ here: path === verb.path ? route.path === path : route.path.startsWith(path) }">{{ name }}</router-link>
  </nav>
  <main id="main" :class="{ bare: !inside }"><router-view /></main>
</template>

<style scoped>
.skip { position: absolute; left: -999px }
.skip:focus { left: 8px; top: 8px; background: var(--sheet); padding: 4px 8px; z-index: 10 }
header { display: flex; align-items: center; gap: 24px; padding: 8px 24px; background: var(--sheet); border-bottom: 1px solid var(--line) }
.brand { display: flex; gap: 8px; align-items: center; font-weight: 700; color: var(--ink); text-decoration: none; white-space: nowrap }
header nav { display: flex; gap: 4px; flex: 1 }
.user { white-space: nowrap }
nav a { padding: 6px 12px; color: var(--ink); text-decoration: none; border-bottom: 2px solid transparent }
nav a.here { border-color: var(--gate); font-weight: 600 }
.pages { padding: 4px 24px 0; border-bottom: 1px solid var(--line) }
.pages a { display: inline-block; color: var(--quiet) }
.pages a.here { color: var(--ink) }
main { padding: 24px; max-width: 1320px; margin: 0 auto }
main.bare { max-width: 460px; padding-top: 10vh }
main.bare :deep(h1) { margin: 8px 0 16px }
@media (max-width: 720px) { header { flex-wrap: wrap; gap: 8px 16px; padding: 8px 16px } header nav { flex-wrap: wrap } main { padding: 16px } }
</style>
