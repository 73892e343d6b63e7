<script setup lang="ts">
import { computed } from 'vue'
import type { Certificate } from '../api/client'
import { days, localDate, saveFile } from '../composables/words'
import FactList from './FactList.vue'
import FindingBox from './FindingBox.vue'

const props = defineProps<{ certificate: Certificate; file: string }>()
const facts = computed(() => {
  const c = props.certificate
  const out = [{ label: 'Key', value: `${c.key}, for ${c.use || 'signing and encryption'}`,
    plain: true }] as { label: string; value: string; also?: string[]; hint?: string; plain?: boolean }[]
  if (c.subject) out.push({ label: 'Subject', value: c.subject, plain: true })
  if (c.notAfter) out.push({ label: 'Valid',
    value: `${localDate(c.notBefore!)} to ${localDate(c.notAfter)}, ends ${days(c.notAfter)}`, plain: true })
  if (c.sha256) out.push({ label: 'SHA-256 fingerprint', value: c.sha256, also: ['thumbprint'] })
  if (c.sha1) out.push({ label: 'SHA-1 fingerprint', value: c.sha1, hint: 'of the certificate, for comparing only' })
  return out
})
/** The same in DER, which some programs want. */
function saveDER() {
  const octets = atob(props.certificate.pem!.replace(/-----[^-]*-----|\s/g, ''))
  saveFile(`${props.file}.der`, Uint8Array.from(octets, (c) => c.charCodeAt(0)), 'application/pkix-cert')
}
</script>

<template>
  <FactList :facts="facts" />
  <FindingBox v-for="f in certificate.findings ?? []" :key="f.code" :finding="f" />
  <p v-if="certificate.pem" class="get">
    <el-button size="small" @click="saveFile(file + '.pem', certificate.pem!, 'application/x-pem-file')">Download
      certificate (PEM)</el-button><el-button size="small" @click="saveDER">DER</el-button></p>
</template>

<style scoped>
.get { margin: 8px 0 0 }
</style>
