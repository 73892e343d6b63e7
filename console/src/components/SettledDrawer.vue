<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, because, take } from '../api/client'
import SettingsDrawer from './SettingsDrawer.vue'
import { settingsOf, type Setting } from '../composables/settings'

/** Makes or changes an object of a kind that settings say everything about; its form is made from their description. */
const props = defineProps<{ kind: string; name?: string; preset?: Record<string, unknown> }>()
const emit = defineEmits<{ saved: [] }>()
const open = defineModel<boolean>({ required: true })
const fields = ref<Setting[]>([])
const settings = ref<Record<string, unknown>>({})
const revision = ref(0)
const ready = ref(false)
const at = (name: string) => ({ params: { path: { kind: props.kind, name } } })
watch(open, async (is) => {
  ready.value = false
  if (!is) return
  fields.value = await settingsOf(props.kind)
  if (props.kind === 'rule') {
    const from = await take(api.GET('/api/v1/browser'))
    const said = `. The gate sees your browser at ${from.network}${from.proxied ? `, as the proxy ${from.from} says` : ''}`
    fields.value = fields.value.map((f) => (f.name === 'networks' ? { ...f, text: f.text + said } : f))
  }
  const it = props.name ? await take(api.GET('/api/v1/objects/{kind}/{name}', at(props.name))) : undefined
  settings.value = { ...Object.fromEntries(fields.value.map((f) => [f.name, f.type === 'switch' ? false : f.type === 'values' ? [] : ''])), ...(it ? {} : props.preset), ...it?.settings }
  revision.value = it?.revision ?? 0
  ready.value = true
})
const title = computed(() => (props.name ? String(settings.value.title || props.name) : `New ${props.kind === 'start' ? 'starting point' : props.kind}`))
const changed = (draft: Record<string, unknown>) => Object.fromEntries(fields.value.filter((f) => !revision.value ||
  JSON.stringify(draft[f.name]) !== JSON.stringify(settings.value[f.name])).map((f) => [f.name, draft[f.name]]))
const weigh = async (draft: Record<string, unknown>, name: string) => (await take(api.POST('/api/v1/objects/{kind}/{name}/preview',
  { ...at(props.name ?? name), body: { revision: revision.value, settings: changed(draft) } }))).consequence
async function save(draft: Record<string, unknown>, why: string, name: string) {
  await because(why, () => take(api.PUT('/api/v1/objects/{kind}/{name}', { ...at(props.name ?? name), body: { revision: revision.value, settings: changed(draft) } })))
  emit('saved')
}
</script>

<template>
  <SettingsDrawer v-if="ready" v-model="open" :title="title" :fields="fields" :settings="settings" :naming="!name" :save="save" :weigh="weigh" />
</template>
