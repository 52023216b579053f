<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { signIn } from '../session'

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
  <div class="page">
    <form class="card stack" @submit.prevent="submit">
      <div class="row"><img src="/mark.svg" alt="" width="40" height="40" /><h1>Maple Lark</h1></div>
      <p class="muted">The right page, to the right people, of the right hours.</p>
      <label>Name<el-input v-model="name" name="name" autocomplete="username" autofocus size="large" /></label>
      <label>Password<el-input v-model="password" name="password" type="password" show-password autocomplete="current-password" size="large" /></label>
      <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
      <el-button type="primary" native-type="submit" size="large" :loading="busy">Sign in</el-button>
    </form>
  </div>
</template>

<style scoped>
.page { min-height: 100vh; display: grid; place-items: center; padding: 1rem; background: radial-gradient(circle at 70% 15%, #14607f, var(--sea-deep) 60%); }
form { width: min(24rem, 100%); padding: 2rem; }
p { margin: 0; }
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
.problem { color: var(--critical); font-weight: 600; }
</style>
