<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, because, take, type Schemas } from '../api/client'
import MappingEditor from '../components/MappingEditor.vue'
import ProblemBox from '../components/ProblemBox.vue'
import ReevaluationPanel from '../components/ReevaluationPanel.vue'
import SaveChange from '../components/SaveChange.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { mappingOf, written, type Mapping } from '../composables/rules'
import { useTrial } from '../composables/trial'

const props = defineProps<{ name: string }>()
const router = useRouter()
const path = { params: { path: { name: props.name } } }
const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/sets/{name}', path)), () => props.name)
const mapping = ref<Mapping>({ rules: [] })
const title = ref('')
const notes = ref('')
const unread = ref('')
watch(data, (d) => {
  mapping.value = mappingOf(JSON.parse(JSON.stringify(d?.mapping ?? {})))
  title.value = d?.title ?? ''
  notes.value = d?.notes ?? ''
})
const way = computed(() => (data.value?.way ?? 'release') as 'intake' | 'release')
const changed = computed(() => !!data.value && (title.value !== data.value.title || notes.value !== (data.value.notes ?? '')
  || written(mapping.value) !== written(mappingOf(data.value.mapping))))
const body = () => ({ way: way.value, title: title.value, notes: notes.value, mapping: mapping.value, revision: data.value!.revision })

/** Tried on the newest sign-in of the first that shares it. */
const first = computed(() => data.value?.using?.[0]?.split('/') as ['provider' | 'application', string] | undefined)
const { tried, refused } = useTrial(async () => {
  if (unread.value || !data.value || !first.value) return undefined
  const [kind, name] = first.value
  const traces = (await take(api.GET('/api/v1/traces',
    { params: { query: { [kind]: name, result: 'entered', limit: 1 } } }))).items ?? []
  // Alone: over the set as it is stored, what was taken out of it here would still be there.
  return { [kind]: name, [`${way.value}Mapping`]: mapping.value, [`${way.value}Set`]: '',
    ...(traces[0] ? { trace: traces[0].id } : {}) } as Schemas['MappingTrial']
}, () => [mapping.value, data.value, unread.value])
const names = computed(() => ((way.value === 'intake' ? tried.value?.received : tried.value?.profile) ?? []).map((a) => a.name))

const { busy, failed, act } = useAct({ done: load })
const save = (why: string) => act(() => because(why, () => take(api.PUT('/api/v1/sets/{name}', { ...path, body: body() }))))
const remove = () => act(async () => {
  await take(api.DELETE('/api/v1/sets/{name}', path))
  await router.push('/map/sets')
})
const proposed = () => ({ set: { name: props.name, ...body() } }) as Schemas['Proposed']
const change = () => ({ set: { name: props.name, ...body() } }) as Schemas['Reevaluation']
</script>

<template>
  <div class="head"><div><h1>{{ data?.title ?? name }}</h1>
    <p><code>{{ name }}</code> · a set for {{ way }} · revision {{ data?.revision }}</p></div>
    <el-button type="danger" plain :disabled="!!data?.using?.length" @click="remove">Remove</el-button></div>
  <ProblemBox :problem="problem" />
  <section v-if="data" class="sheet main">
    <p>Shared by <template v-for="(u, i) in data.using ?? []" :key="u"><template v-if="i">, </template><router-link
        :to="`/connect/${u.replace('/', 's/')}/mapping`">{{ u.split('/')[1] }}</router-link></template><span v-if="!data.using?.length"
          class="quiet">nobody yet: choose it on the mapping page of {{ way === 'intake' ? 'a provider' : 'an application' }}</span>.</p>
    <p v-for="d in data.deviating ?? []" :key="d.record" class="quiet">{{ d.record.split('/')[1] }} deviates:
      <template v-if="d.own?.length">own rules for {{ d.own.join(', ') }}</template><template v-if="d.own?.length && d.omits?.length">; </template><template
          v-if="d.omits?.length">leaves out {{ d.omits.join(', ') }}</template></p>
    <div class="tools"><label for="title">Title</label><el-input id="title" v-model="title" name="title" style="width: 260px" />
      <label for="notes">Notes</label><el-input id="notes" v-model="notes" name="notes" style="width: 420px" /></div>
    <MappingEditor v-model="mapping" v-model:unread="unread" :way="way" :names="names" :targets="[]"
        :outcomes="(way === 'intake' ? tried?.intake : tried?.release) ?? []" :problem="refused" />
    <SaveChange :busy="busy" :disabled="!!unread || !!refused || !changed" :problem="failed" :save="save" :change="proposed" />
  </section>
  <ReevaluationPanel v-if="changed && !refused && !unread && data?.using?.length" :change="change" />
</template>

<style scoped>
.main { padding: 12px 16px }
</style>
