<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { signIn } from '../session'
import Door from '../users/Door.vue'

const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const problem = ref('')
const busy = ref(false)

async function submit() {
  if (!name.value || !password.value) {
    problem.value = 'Give both a name and a password.'
    return
  }
  busy.value = true
  problem.value = ''
  try {
    await signIn(name.value, password.value)
    const to = typeof route.query.to === 'string' && route.query.to.startsWith('/') && !route.query.to.startsWith('//') ? route.query.to : '/'
    await router.push(to)
  } catch (error) {
    problem.value = error instanceof Error ? error.message : String(error)
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Door @submit="submit">
    <p class="muted">The right page, to the right people, of the right hours.</p>
    <label>Name<el-input v-model="name" name="name" autocomplete="username" autofocus size="large" /></label>
    <label>Password<el-input v-model="password" name="password" type="password" show-password autocomplete="current-password" size="large" /></label>
    <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
    <el-button type="primary" native-type="submit" size="large" :loading="busy">Sign in</el-button>
  </Door>
</template>

<style scoped>
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
</style>
