<script setup lang="ts">
import CopyValue from './CopyValue.vue'

/** A client ID, and a secret that is never shown again. */
defineProps<{ title: string; id: string; secret: string }>()
</script>

<template>
  <div class="sheet once" role="status">
    <p><strong>{{ title }}</strong> Copy the secret now; it is not shown again.</p>
    <dl>
      <dt>Client ID</dt><dd><CopyValue :value="id" name="client ID" /></dd>
      <dt>Client secret</dt><dd><CopyValue :value="secret" name="client secret" /></dd>
    </dl>
    <slot />
  </div>
</template>

<style scoped>
.once { padding: 12px 16px; margin: 12px 0; border-left: 4px solid var(--passed); max-width: 720px }
p { margin: 0 0 8px }
dl { display: grid; grid-template-columns: 120px 1fr; gap: 4px 12px; margin: 0 0 12px }
dt { color: var(--quiet) }
dd { margin: 0; min-width: 0 }
</style>
