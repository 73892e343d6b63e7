<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Schemas } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import SettledDrawer from '../components/SettledDrawer.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { kindsOf } from '../composables/settings'
import { local } from '../composables/words'

/** Objects of every kind, and what names them. */
const route = useRoute()
const router = useRouter()
const { data: kinds, problem: none } = useLoad(kindsOf)
const kind = computed(() => String(route.params.kind || kinds.value?.[0]?.kind || ''))
const plain = computed(() => kinds.value?.find((k) => k.kind === kind.value)?.plain)
const search = ref('')
const { data, problem, load } = useLoad(async () => (kind.value ? take(api.GET('/api/v1/objects/{kind}',
  { params: { path: { kind: kind.value }, query: { search: search.value, limit: 200 } } })) : undefined), () => [kind.value, search.value])
const open = ref(false)
const chosen = ref<string>()
function edit(name?: string) {
  chosen.value = name
  open.value = true
}
const shown = ref<Schemas['Object']>()
const { failed, act } = useAct({ done: load })
const at = (name: string) => ({ params: { path: { kind: kind.value, name } } })
const show = (name: string) => act(async () => { shown.value = await take(api.GET('/api/v1/objects/{kind}/{name}', at(name))) })
const remove = (name: string) => act(() => take(api.DELETE('/api/v1/objects/{kind}/{name}', at(name))))
</script>

<template>
  <div class="head"><div><h1>Objects</h1>
    <p>Everything that the configuration consists of, by kind: what each says, and what names it.</p></div>
    <el-button v-if="plain" type="primary" @click="edit()">Make one</el-button></div>
  <ProblemBox :problem="none ?? problem ?? failed" />
  <div class="tools">
    <button v-for="k in kinds ?? []" :key="k.kind" type="button" class="filter" :class="{ here: k.kind === kind }" :aria-pressed="k.kind === kind"
        @click="router.push(`/keep/objects/${k.kind}`)">{{ k.kind }}</button>
    <el-input v-model="search" clearable placeholder="Name, or what it says" aria-label="Search objects" name="search" style="width: 240px" />
  </div>
  <el-table v-if="data" :data="data.items ?? []">
    <el-table-column label="Name" min-width="200"><template #default="{ row }"><el-button link type="primary" @click="show(row.name)">{{ row.name }}</el-button></template></el-table-column>
    <el-table-column label="Title" prop="title" min-width="240" />
    <el-table-column label="Revision" prop="revision" width="100" />
    <el-table-column label="Added" width="200"><template #default="{ row }">{{ local(row.added) }}</template></el-table-column>
    <el-table-column label="" width="180"><template #default="{ row }"><template v-if="plain">
      <el-button link type="primary" :aria-label="`Change ${row.name}`" @click="edit(row.name)">Change</el-button>
      <el-button link type="danger" :aria-label="`Remove ${row.name}`" @click="remove(row.name)">Remove</el-button></template></template></el-table-column>
    <template #empty>{{ search ? 'None like that.' : 'None of this kind yet.' }}</template>
  </el-table>
  <section v-if="shown && shown.kind === kind" class="sheet" :aria-label="`${shown.kind} ${shown.name}`">
    <h2>{{ shown.title || shown.name }}</h2>
    <dl><template v-for="v in shown.values ?? []" :key="v.label + v.value"><dt class="quiet">{{ v.label }}</dt><dd>{{ v.value || '–' }}</dd></template></dl>
    <p v-if="shown.referring?.length">Named by <template v-for="(r, i) in shown.referring" :key="r.by + r.field"><template v-if="i">, </template><code>{{ r.by }}</code> ({{ r.field }})</template>.</p>
    <p v-else class="quiet">Nothing names it.</p>
  </section>
  <SettledDrawer v-model="open" :kind="kind" :name="chosen" @saved="load" />
</template>

<style scoped>
.sheet { margin-top: 16px; padding: 12px 16px }
h2 { margin: 0 0 8px }
dl { display: grid; grid-template-columns: 200px 1fr; gap: 4px 16px; margin: 0 }
dd { margin: 0; overflow-wrap: anywhere }
</style>
