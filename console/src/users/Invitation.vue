<script setup lang="ts">
// Where the link of an invitation leads. Its secret follows "#", so that no server logs it.
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { user } from '../session'
import { instant } from '../words'
import Door from './Door.vue'
import NewPassword from './NewPassword.vue'
import { passwordProblem, roleLabel, ROLES } from './words'

const router = useRouter()
const token = location.hash.slice(1)
const invitation = ref<Schemas['InvitationView'] | null>(null)
const lost = ref('')
const [password, again, problem] = [ref(''), ref(''), ref('')]
const code = ref('')
const needsCode = ref(false)
const busy = ref(false)
const words = (error: unknown) => (error instanceof Error ? error.message : String(error))

onMounted(async () => {
  // Nobody reads it over a shoulder, and no bookmark keeps it.
  history.replaceState(history.state, '', location.pathname)
  try {
    invitation.value = await take(api.POST('/invitations', { body: { token } }))
  } catch (error) {
    lost.value = words(error)
  }
})

async function submit() {
  problem.value = passwordProblem(password.value, again.value) ?? ''
  if (problem.value) return
  busy.value = true
  try {
    user.value = await take(api.POST('/invitations/accept', { body: { token, password: password.value, ...(code.value.trim() ? { code: code.value.trim() } : {}) } }))
    await router.push({ name: 'overview' })
  } catch (error) {
    if (error instanceof ApiProblem && error.needsCode) needsCode.value = true
    problem.value = words(error)
    code.value = ''
  } finally {
    busy.value = false
  }
}
const may = () => ROLES.find((one) => one.value === invitation.value?.role)?.may ?? ''
</script>

<template>
  <Door @submit="submit">
    <template v-if="invitation">
      <p>You sign in as <strong>{{ invitation.name }}</strong>. Your role is {{ roleLabel(invitation.role).toLowerCase() }}, who {{ may() }}.</p>
      <input class="hidden" type="text" name="username" autocomplete="username" :value="invitation.name" tabindex="-1" aria-hidden="true" readonly />
      <NewPassword v-model:password="password" v-model:again="again" :problem="problem" />
      <label v-if="needsCode">Code of your device, or a recovery code<el-input v-model="code" name="code" aria-label="Code of your device, or a recovery code" autocomplete="one-time-code" size="large" /></label>
      <el-button type="primary" native-type="submit" size="large" :loading="busy">Set the password and sign in</el-button>
      <p class="muted small">The link is good once, until {{ instant(invitation.expires_at) }}.</p>
    </template>
    <template v-else-if="lost">
      <p class="problem" role="alert">◆ {{ lost.charAt(0).toUpperCase() + lost.slice(1) }}</p>
      <RouterLink :to="{ name: 'sign-in' }">Sign in with a password</RouterLink>
    </template>
    <p v-else class="muted" aria-live="polite">Looking at the invitation …</p>
  </Door>
</template>

<style scoped>
.hidden { position: absolute; width: 1px; height: 1px; opacity: 0; pointer-events: none; }
</style>
