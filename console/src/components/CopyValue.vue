<script setup lang="ts">
import { ref } from 'vue'

const props = defineProps<{ value: string; name: string }>()
const done = ref(false)

async function copy() {
  await navigator.clipboard.writeText(props.value)
  done.value = true
  setTimeout(() => (done.value = false), 1500)
}
</script>

<template>
  <span class="value"><code>{{ value }}</code>
    <button type="button" :aria-label="`Copy ${name}`" @click="copy">{{ done ? 'copied' : 'copy' }}</button></span>
</template>

<style scoped>
.value { display: inline-flex; gap: 8px; align-items: baseline; max-width: 100% }
code { overflow-wrap: anywhere }
button { font: inherit; font-size: 12px; color: var(--gate); background: none; border: 1px solid var(--line); border-radius: 4px; padding: 0 6px; cursor: pointer }
</style>
