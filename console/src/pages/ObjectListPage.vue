<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, because, take, type Row } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kinds, type Kind } from '../composables/objects'
import { days } from '../composables/words'

const props = defineProps<{ kind: Kind['name'] }>()
const router = useRouter()
const kind = computed(() => kinds[props.kind])
const plural = computed(() => `${props.kind}s`)
const search = ref('')
const page = ref(1)
const size = 25
watch(() => props.kind, () => { search.value = ''; page.value = 1; done.value = undefined })
const { data, problem, loading, load } = useLoad(
  () => kind.value.list({ search: search.value, limit: size, offset: (page.value - 1) * size }),
  () => [props.kind, search.value, page.value],
)
const chosen = ref<Row[]>([])
const done = ref<{ text: string; change: number }>()
const { failed, act } = useAct()
/** Changes or removes those that are chosen, or all that match: first what that comes to, then that. */
const many = (verb: 'Pause' | 'Resume' | 'Remove', all: boolean) => act(async (confirm) => {
  const body = { kind: props.kind, ...(all ? (search.value ? { search: search.value } : { all: true })
    : { names: chosen.value.map((r) => r.name) }), ...(verb === 'Remove' ? { remove: true }
    : { set: { phase: verb === 'Pause' ? 'paused' : 'before' } }) }
  const p = await take(api.POST('/api/v1/changes/preview', { body }))
  const refused = (p.refused ?? []).slice(0, 3).map((r) => `${r.name}: ${r.cause}`).join('; ')
  const said = refused ? `Nothing can be changed: ${refused}.`
    : `${p.changes?.length} of ${p.matched} would be ${verb === 'Remove' ? 'removed' : `${verb.toLowerCase()}d`}${p.unchanged ? `; ${p.unchanged} are so already` : ''}.`
  let why: unknown
  try {
    why = await ElMessageBox.prompt(said, `${verb} ${p.matched} ${plural.value}?`, { confirmButtonText: verb,
      cancelButtonText: 'Leave it', inputPlaceholder: 'Why (optional)', type: 'warning' })
  } catch {
    return
  }
  const out = await because((why as { value?: string }).value ?? '', () => take(api.POST('/api/v1/changes',
    { body: { ...body, digest: p.digest } })), confirm)
  done.value = { text: `${verb}d ${out.changes?.length} ${plural.value}.`, change: out.change ?? 0 }
  await load()
})
const path = (row: Row) => `/connect/${plural.value}/${row.name}`
const state = (row: Row) => (row.missing?.length ? ['waiting', '○ unfinished'] : row.phase === 'live'
  ? ['passed', '● live'] : ['waiting', `○ ${row.phase}`])
</script>

<template>
  <div class="head">
    <div>
      <h1>{{ kind.name === 'provider' ? 'Providers' : 'Applications' }}</h1>
      <p>{{ kind.sentence }}</p>
    </div>
    <router-link :to="`/connect/${plural}/add`"><el-button type="primary">Add {{ kind.article }}</el-button>
    </router-link>
  </div>
  <div class="tools">
    <el-input v-model="search" clearable placeholder="Name, title or identity" aria-label="Search"
        style="width: 320px" @input="page = 1" />
    <span v-if="data" class="quiet">{{ data.total }} {{ data.total === 1 ? kind.name : plural }}</span>
  </div>
  <div v-if="data?.total" class="tools">
    <span class="quiet">{{ chosen.length ? `${chosen.length} chosen` : `All ${data.total} that match` }}:</span>
    <el-button v-for="v in (['Pause', 'Resume', 'Remove'] as const)" :key="v" size="small"
        :plain="v === 'Remove'" :type="v === 'Remove' ? 'danger' : undefined"
            @click="many(v, !chosen.length)">{{ v }}</el-button>
    <span v-if="done" role="status">{{ done.text }} <router-link v-if="done.change"
        :to="`/keep/history/${done.change}`">Take it back</router-link></span>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <el-table v-loading="loading && !data" :data="data?.items ?? []"
      :empty-text="search ? 'Nothing matches.' : `None yet. Add ${kind.article} with the button above.`"
          row-key="name" @selection-change="(rows: Row[]) => (chosen = rows)"
              @row-click="(row: Row) => router.push(path(row))">
    <el-table-column type="selection" width="46" />
    <el-table-column label="State" width="120"><template #default="{ row }"><span :class="state(row as Row)[0]"
        :title="(row as Row).missing?.length ? `missing: ${(row as Row).missing!.join(', ')}` : undefined">{{ state(row as Row)[1] }}</span></template></el-table-column>
    <el-table-column label="Title" min-width="180"><template #default="{ row }"><router-link :to="path(row as Row)"
        @click.stop>{{ row.title }}</router-link></template></el-table-column>
    <el-table-column prop="name" label="Short name" min-width="140" />
    <el-table-column label="Identity" min-width="280"><template #default="{ row }">
      <code :title="row.entityId">{{ row.entityId }}</code></template></el-table-column>
    <el-table-column label="Protocol" width="100">
      <template #default="{ row }">{{ row.protocol.toUpperCase() }}</template></el-table-column>
    <el-table-column v-if="kind.name === 'application'" label="Provider" min-width="140">
      <template #default="{ row }">{{ row.provider || 'by routing' }}</template></el-table-column>
    <el-table-column label="Ends" width="150">
      <template #default="{ row }">{{ row.ends ? days(row.ends) : '–' }}</template></el-table-column>
  </el-table>
  <el-pagination v-if="data && data.total > size" v-model:current-page="page" :page-size="size" :total="data.total"
      layout="prev, pager, next" />
</template>
