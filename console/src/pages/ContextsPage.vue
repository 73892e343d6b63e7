<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, because, take } from '../api/client'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { useLoad } from '../composables/load'
import { short } from '../composables/words'

const { data, problem, load } = useLoad(() => take(api.GET('/api/v1/contexts')))
const text = ref('')
const why = ref('')
const { busy, failed, act } = useAct({ done: load })
const written = (ranks: (string[] | null)[]) => ranks.map((r) => (r ?? []).join(' ')).join('\n')
watch(data, (d) => { text.value = written(d?.ranks ?? []) })
const ranks = computed(() => text.value.split('\n').map((l) => l.split(/\s+/).filter(Boolean)).filter((l) => l.length))
const changed = computed(() => data.value && written(ranks.value) !== written(data.value.ranks ?? []))

const save = () => act(async () => {
  await because(why.value,
    () => take(api.PUT('/api/v1/contexts', { body: { revision: data.value!.revision, ranks: ranks.value } })))
  why.value = ''
})
</script>

<template>
  <div class="head">
    <div>
      <h1>Contexts</h1>
      <p>How strongly authentication contexts prove who somebody is. An application that asks for <em>at least</em>,
        <em>better than</em> or <em>at most</em> one is judged by these ranks; a context without a rank satisfies only
          a request that names it. A provider's own words are translated on its page.</p>
    </div>
  </div>
  <ProblemBox :problem="problem ?? failed" />
  <div class="both">
    <ol class="sheet" aria-label="Ranks, the weakest first">
      <li v-for="(rank, i) in ranks" :key="i"><span v-for="c in rank" :key="c" :title="c">{{ short(c) }}</span></li>
      <li v-if="!ranks.length" class="quiet">Nothing is ranked.</li>
    </ol>
    <form class="sheet" @submit.prevent="save">
      <label for="ranks">A line for each rank, the weakest first; several contexts of one rank separated by
        spaces</label>
      <el-input id="ranks" v-model="text" name="ranks" type="textarea" :rows="12" class="mono" />
      <div class="save">
        <el-input v-model="why" name="why" placeholder="Why (optional, kept in the history)" aria-label="Why" />
        <el-button type="primary" native-type="submit" :loading="busy" :disabled="!changed">Save</el-button>
      </div>
    </form>
  </div>
</template>

<style scoped>
.both { display: grid; grid-template-columns: minmax(280px, 2fr) 5fr; gap: 16px; align-items: start }
ol { margin: 0; padding: 12px 16px 12px 40px }
li { padding: 4px 0 }
li span { display: block; overflow-wrap: anywhere }
form { padding: 16px }
label { display: block; margin-bottom: 8px }
.mono :deep(textarea) { font: 12px/1.6 var(--mono); white-space: pre; overflow-x: auto }
.save { display: flex; gap: 12px; margin-top: 12px }
@media (max-width: 1000px) { .both { grid-template-columns: 1fr } }
</style>
