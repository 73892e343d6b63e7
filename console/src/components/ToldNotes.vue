<script setup lang="ts">
import type { Mapped } from '../api/client'

/** What comes before an application is told something, and what it is not told because it does not ask. */
defineProps<{ told: Mapped }>()
</script>

<template>
  <p v-if="told.agree?.length" class="waiting">The person has to agree first: {{ told.agree.join(', ') }}.</p>
  <p v-if="told.asked?.length" class="waiting">The person is first asked for: {{ told.asked.join(', ') }}.</p>
  <p v-if="told.withheld?.length" class="quiet">Held back, because the application does not ask for them: {{ told.withheld.join(', ') }}.<template
      v-if="told.request === 'record'"> No request of it is recorded: this is for all scopes that its record allows.</template></p>
</template>

<style scoped>
p { margin: 8px 0 0; grid-column: 1 / -1 }
</style>
