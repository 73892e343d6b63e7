<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import MarkSign from '../components/MarkSign.vue'
import ProblemBox from '../components/ProblemBox.vue'
import { useAct } from '../composables/act'
import { session } from '../composables/session'

const router = useRouter()
const token = window.location.hash.slice(1)
const form = ref({ username: '', password: '' })
const { busy, failed: problem, act } = useAct()

const setUp = () => act(async () => {
  await session.setUp(token, form.value.username, form.value.password)
  await router.push('/connect')
})
</script>

<template>
  <MarkSign />
  <h1>Set up the first owner</h1>
  <p class="quiet">This link works once. The owner may do everything in this gate.</p>
  <ProblemBox :problem="problem" />
  <el-form label-position="top" @submit.prevent="setUp">
    <el-form-item label="User name (a-z, 0-9, hyphen)"><el-input v-model="form.username" name="username"
        autocomplete="username" /></el-form-item>
    <el-form-item label="Password (at least 12 characters)"><el-input v-model="form.password" name="password"
        type="password" autocomplete="new-password" /></el-form-item>
    <el-button type="primary" native-type="submit" :loading="busy">Set up</el-button>
  </el-form>
</template>
