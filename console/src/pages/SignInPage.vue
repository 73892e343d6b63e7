<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Problem } from '../api/client'
import MarkSign from '../components/MarkSign.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { session } from '../composables/session'

const route = useRoute()
const router = useRouter()
const form = ref({ username: '', password: '' })
const { busy, failed: problem, act } = useAct()

session.load().catch((e: Problem) => (problem.value = e))

const enter = () => act(async () => {
  await session.signIn(form.value.username, form.value.password)
  const to = String(route.query.to ?? '/connect')
  await router.push(to.startsWith('/') && !to.startsWith('//') ? to : '/connect')
})
</script>

<template>
  <MarkSign />
  <h1>Sign in to the console</h1>
  <p v-if="session.needsOwner.value" class="quiet">Nobody owns this gate yet. Open the set-up link that it printed when
    it started.</p>
  <ProblemBox :problem="problem" />
  <el-form label-position="top" @submit.prevent="enter">
    <el-form-item label="User name"><el-input v-model="form.username" name="username" autocomplete="username" autofocus
        /></el-form-item>
    <el-form-item label="Password"><el-input v-model="form.password" name="password" type="password"
        autocomplete="current-password" /></el-form-item>
    <el-button type="primary" native-type="submit" :loading="busy">Sign in</el-button>
  </el-form>
</template>
