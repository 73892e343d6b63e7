<script setup lang="ts">
import { reactive, watch } from 'vue'
import { api, because, take, type Unit } from '../api/client'
import SaveChange from './SaveChange.vue'
import { useAct } from '../composables/act'

/** Makes a group or an organisation, or changes it. */
const props = defineProps<{ kind: 'group' | 'organisation'; unit?: Unit; groups: Unit[]; providers?: { name: string; title: string }[] }>()
const emit = defineEmits<{ saved: [] }>()
const open = defineModel<boolean>({ required: true })
const form = reactive({ name: '', title: '', notes: '', userType: '', inside: '', values: '', providers: [] as string[], domains: '', groups: [] as string[] })
watch(open, (is) => {
  const u = props.unit
  if (is) Object.assign(form, { name: u?.name ?? '', title: u?.title ?? '', notes: u?.notes ?? '', userType: u?.userType ?? '', inside: u?.inside ?? '',
    values: (u?.values ?? []).join('\n'), providers: u?.providers ?? [], domains: (u?.domains ?? []).join('\n'), groups: u?.groups ?? [] })
})
const lines = (text: string) => text.split('\n').map((l) => l.trim()).filter(Boolean)
const { busy, failed, act } = useAct()
const save = (why: string) => act(async () => {
  const body = { title: form.title, notes: form.notes, userType: form.userType, revision: props.unit?.revision ?? 0,
    ...(props.kind === 'group' ? { inside: form.inside, values: lines(form.values) }
      : { providers: form.providers, domains: lines(form.domains), groups: form.groups }) }
  const at = { params: { path: { name: form.name } }, body }
  await because(why, () => take(props.kind === 'group' ? api.PUT('/api/v1/groups/{name}', at) : api.PUT('/api/v1/organisations/{name}', at)))
  open.value = false
  emit('saved')
})
</script>

<template>
  <el-drawer v-model="open" :title="unit ? unit.title : `New ${kind}`" size="520px">
    <el-form label-position="top" @submit.prevent>
      <el-form-item v-if="!unit" label="Short name"><el-input v-model="form.name" name="name" placeholder="a-z, 0-9 and hyphen; it never changes" /></el-form-item>
      <el-form-item label="Title"><el-input v-model="form.title" name="title" /></el-form-item>
      <template v-if="kind === 'group'">
        <el-form-item label="Lies in"><el-select v-model="form.inside" aria-label="Lies in" clearable filterable placeholder="no other group">
          <el-option v-for="g in groups.filter((x) => x.name !== form.name)" :key="g.name" :value="g.name" :label="g.title" /></el-select></el-form-item>
        <el-form-item label="Providers call it"><el-input v-model="form.values" name="values" type="textarea" :rows="3" placeholder="one value a line, beside the short name" /></el-form-item>
      </template>
      <template v-else>
        <el-form-item label="Providers of its people"><el-select v-model="form.providers" aria-label="Providers of its people" multiple filterable>
          <el-option v-for="p in providers ?? []" :key="p.name" :value="p.name" :label="p.title" /></el-select></el-form-item>
        <el-form-item label="Domains of its e-mail addresses"><el-input v-model="form.domains" name="domains" type="textarea" :rows="3" placeholder="one a line, like oakhollow.example" /></el-form-item>
        <el-form-item label="Its people land in"><el-select v-model="form.groups" aria-label="Its people land in" multiple filterable>
          <el-option v-for="g in groups" :key="g.name" :value="g.name" :label="g.title" /></el-select></el-form-item>
      </template>
      <el-form-item label="Marks its people as (userType)"><el-input v-model="form.userType" name="userType" placeholder="like contractor; empty for nothing" /></el-form-item>
      <el-form-item label="Notes"><el-input v-model="form.notes" name="notes" type="textarea" :rows="2" /></el-form-item>
    </el-form>
    <template #footer><SaveChange :busy="busy" :disabled="!form.name || !form.title" :problem="failed" :save="save" /></template>
  </el-drawer>
</template>
