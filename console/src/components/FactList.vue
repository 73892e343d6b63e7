<script setup lang="ts">
import CopyValue from './CopyValue.vue'

defineProps<{ facts: { label: string; value: string; also?: string[]; hint?: string; plain?: boolean }[] }>()
</script>

<template>
  <dl class="sheet">
    <template v-for="f in facts" :key="f.label + f.value">
      <dt>{{ f.label }}</dt>
      <dd>
        <template v-if="f.plain">{{ f.value }}</template>
        <CopyValue v-else :value="f.value" :name="f.label" />
        <div v-if="f.also?.length || f.hint" class="quiet more">
          <template v-if="f.also?.length">also called {{ f.also.join(', ') }}</template>
            <template v-if="f.also?.length && f.hint">; </template>{{ f.hint }}
        </div>
      </dd>
    </template>
  </dl>
</template>

<style scoped>
dl { display: grid; grid-template-columns: 236px 1fr; margin: 0 }
dt, dd { margin: 0; padding: 8px 16px; border-bottom: 1px solid var(--line) }
dt { color: var(--quiet) }
dt:last-of-type, dd:last-of-type { border-bottom: 0 }
.more { font-size: 12px }
@media (max-width: 720px) { dl { grid-template-columns: 1fr } dt { border: 0; padding-bottom: 0 } }
</style>
