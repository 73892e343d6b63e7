<script setup lang="ts">
/** The short form of the lanes: application, gate, provider, in one line. */
defineProps<{ application: string; provider: string; applicationPath?: string; providerPath?: string; onlyOwn?: boolean; onlyGate?: boolean }>()
</script>

<template>
  <span class="lanes">
    <span class="post"><small>application</small><router-link v-if="applicationPath"
        :to="applicationPath">{{ application }}</router-link><template v-else>{{ application }}</template></span>
    <svg viewBox="0 0 56 14" width="56" height="14" aria-hidden="true"><path d="M2 7h52" />
      <path v-if="!onlyGate" d="m48 3 6 4-6 4" /><path v-if="!onlyOwn" d="M8 3 2 7l6 4" /></svg>
    <span class="post gate"><small>gate</small>Inner Gate</span>
    <svg viewBox="0 0 56 14" width="56" height="14" aria-hidden="true"><path d="M2 7h52M48 3l6 4-6 4M8 3 2 7l6 4" />
    </svg>
    <span class="post"><small>provider</small><router-link v-if="providerPath"
        :to="providerPath">{{ provider }}</router-link><template v-else>{{ provider }}</template></span>
  </span>
</template>

<style scoped>
.lanes { display: flex; align-items: center; gap: 12px }
.post { display: flex; flex-direction: column; min-width: 210px; padding: 6px 12px; border: 1px solid var(--line); border-radius: 4px; background: var(--sheet); line-height: 1.3; font-weight: 600 }
.post small { color: var(--quiet); font-weight: 400 }
.post.gate { min-width: 100px; border-color: var(--gate); border-width: 2px }
path { stroke: var(--quiet); fill: none; stroke-width: 1.5 }
@media (max-width: 720px) { .lanes { flex-direction: column; align-items: stretch } svg { display: none } }
</style>
