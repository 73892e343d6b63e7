<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, because, take, type Preview } from '../api/client'
import IntakeForm from './IntakeForm.vue'
import PreviewPanel from './PreviewPanel.vue'
import ProblemBox from './ProblemBox.vue'
import { useAct } from '../composables/act'

/** Takes newer values of the other side into a record: first what would change, then the change. */
const props = defineProps<{ kind: 'provider' | 'application'; name: string; protocol: string }>()
const emit = defineEmits<{ saved: [] }>()
const open = defineModel<boolean>({ required: true })
const form = ref<InstanceType<typeof IntakeForm>>()
const preview = ref<Preview>()
const { busy, failed: problem, act: run } = useAct()
const why = ref('')
const entity = ref('')
const handed = async () => ({ ...(await form.value!.given()), entity: entity.value || undefined })
function pick(id: string) {
  entity.value = id
  void look()
}
watch(open, () => { preview.value = problem.value = undefined; why.value = entity.value = '' })

const look = () => run(async () => {
  const body = { name: props.name, ...(await handed()) }
  preview.value = await take(props.kind === 'provider' ? api.POST('/api/v1/providers/preview', { body })
    : api.POST('/api/v1/applications/preview', { body }))
})
const save = () => run(async () => {
  const at = { params: { path: { name: props.name } }, body: { revision: preview.value!.revision,
    expect: preview.value!.document, ...(await handed()) } }
  await because(why.value, () => take(props.kind === 'provider' ? api.PUT('/api/v1/providers/{name}/metadata', at)
    : api.PUT('/api/v1/applications/{name}/metadata', at)))
  open.value = false
  emit('saved')
})
</script>

<template>
  <el-drawer v-model="open" :title="`Take in newer values of ${name}`" size="720px">
    <ProblemBox :problem="problem" />
    <el-form label-position="top" @submit.prevent="look">
      <IntakeForm ref="form" :kind="kind" :protocol="protocol" :problem="problem" known @changed="preview = undefined; entity = ''"
          @large="problem = { title: 'This file is too large for one entity', detail: 'Take it in as an aggregate, then take over the entity.', status: 0, type: 'about:blank' }" />
      <el-button :type="preview ? 'default' : 'primary'" native-type="submit" :loading="busy">Preview</el-button>
    </el-form>
    <PreviewPanel v-if="preview" :preview="preview" @pick="pick" />
    <template v-if="preview && !preview.choices?.length" #footer>
      <el-input v-model="why" name="why" placeholder="Why (optional, kept in the history)" aria-label="Why" class="why"
          />
      <el-button type="primary" :loading="busy" @click="save">Take it in</el-button>
      <el-button @click="open = false">Leave it</el-button>
    </template>
  </el-drawer>
</template>

<style scoped>
.why { margin-bottom: 12px }
</style>
