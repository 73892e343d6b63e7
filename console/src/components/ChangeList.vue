<script setup lang="ts">
import { useRouter } from 'vue-router'
import type { Change } from '../api/client'
import { local } from '../composables/words'

/** Changes in the history, one line each. */
defineProps<{ changes: Change[]; bare?: boolean }>()
const router = useRouter()
const open = (row: Change) => router.push(`/keep/history/${row.id}`)
</script>

<template>
  <el-table :data="changes" empty-text="No change yet." @row-click="open">
    <el-table-column label="What" min-width="230"><template #default="{ row }">
      <router-link :to="`/keep/history/${row.id}`" @click.stop>{{ row.what }}</router-link></template></el-table-column>
    <el-table-column v-if="!bare" prop="kind" label="Kind" width="110" />
    <el-table-column v-if="!bare" prop="name" label="Name" min-width="190" />
    <el-table-column v-if="!bare" label="Together" width="96"><template #default="{ row }">
      <router-link v-if="row.batch" :to="`/keep/history/${row.batch}`" @click.stop>{{ row.batch }}</router-link>
      </template></el-table-column>
    <el-table-column label="Revision" width="92"><template #default="{ row }">{{ row.revision || '' }}</template>
    </el-table-column>
    <el-table-column prop="who" label="Who" min-width="130" />
    <el-table-column prop="why" label="Why" min-width="180" />
    <el-table-column label="When" width="196"><template #default="{ row }">
      <time :datetime="row.at" :title="row.at">{{ local(row.at) }}</time></template></el-table-column>
  </el-table>
</template>
