<script setup lang="ts">
import type { Schemas } from '../api/client'
import { decisions, grounds, signs, tones } from '../composables/entry'

/** People, and whether they enter. */
defineProps<{ people: Schemas['Entrant'][] }>()
</script>

<template>
  <el-table :data="people">
    <el-table-column label="Decision" width="240"><template #default="{ row }"><span :class="tones[row.decision]">{{ signs[row.decision] }} {{ decisions[row.decision] }}</span></template></el-table-column>
    <el-table-column label="Person" min-width="220"><template #default="{ row }"><router-link :to="`/admit/people/${row.person}`">{{ row.name }}</router-link> <span class="quiet">{{ row.person }}</span></template></el-table-column>
    <el-table-column label="By" min-width="320"><template #default="{ row }"><span :title="row.finding || grounds(row.ground, row.decision)">{{ grounds(row.ground, row.decision) }}<template
        v-if="!row.ground && row.finding">: {{ row.finding }}</template></span></template></el-table-column>
    <el-table-column v-if="people.some((p) => p.roles?.length)" label="As" min-width="180"><template #default="{ row }">{{ row.roles?.join(row.choose ? ' or ' : ', ') || '–' }}</template></el-table-column>
    <template #empty>Nobody like that.</template>
  </el-table>
</template>

<style scoped>
.passed { color: var(--passed) }
.refused { color: var(--refused) }
.waiting { color: var(--waiting) }
</style>
