<script setup lang="ts">
import { startAuthentication } from '@simplewebauthn/browser'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../api/base'
import { api, ApiProblem, take } from '../api/client'
import { signIn, signInWithPasskey } from '../session'
import Door from '../users/Door.vue'
import { deviceWords, type Request } from '../users/passkeys'

const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const code = ref('')
const needsCode = ref(false)
const problem = ref('')
const busy = ref(false)
const forgotten = ref(false)
const asked = ref(false)
/** What the organisation's identity provider is called, if there is one. */
const provider = ref<string | null>(null)
/** Whether the browser can be asked for a passkey here. */
const passkeys = ref(false)
const to = (): string => (typeof route.query.to === 'string' && route.query.to.startsWith('/') && !route.query.to.startsWith('//') ? route.query.to : '/')

onMounted(async () => {
  // Without an answer there are name and password.
  const ways = await take(api.GET('/sign-in')).catch(() => null)
  provider.value = ways?.provider ?? null
  passkeys.value = (ways?.passkeys ?? false) && 'PublicKeyCredential' in window
})

/** The answer is the same whether there is such a user or not. */
async function askForLink() {
  if (!name.value.trim()) {
    problem.value = 'Give the name that you sign in with.'
    return
  }
  busy.value = true
  problem.value = ''
  try {
    await take(api.POST('/password-links', { body: { name: name.value.trim() } }))
    asked.value = true
  } catch (error) {
    problem.value = error instanceof Error ? error.message : String(error)
  } finally {
    busy.value = false
  }
}
function turn() {
  forgotten.value = !forgotten.value
  asked.value = false
  problem.value = ''
}

/** A published view is no page of the console. */
async function onward() {
  if (to().startsWith('/view/')) location.assign(at(to()))
  else await router.push(to())
}
async function byPasskey() {
  busy.value = true
  problem.value = ''
  try {
    const asked = await take(api.POST('/sign-in/passkey/challenge'))
    const optionsJSON = (asked.options as { publicKey: Request }).publicKey
    await signInWithPasskey(asked.challenge, { ...(await startAuthentication({ optionsJSON })) })
    await onward()
  } catch (refused) {
    problem.value = deviceWords(refused)
  } finally {
    busy.value = false
  }
}
async function submit() {
  if (forgotten.value) return askForLink()
  if (!name.value || !password.value) {
    problem.value = 'Give both a name and a password.'
    return
  }
  busy.value = true
  problem.value = ''
  try {
    await signIn(name.value, password.value, code.value.trim())
    await onward()
  } catch (error) {
    const asks = error instanceof ApiProblem && error.needsCode
    // The first time it is only asked for.
    problem.value = asks && !needsCode.value ? '' : error instanceof Error ? error.message : String(error)
    if (asks) needsCode.value = true
    else password.value = ''
    code.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Door @submit="submit">
    <p class="muted">The right page, to the right people, of the right hours.</p>
    <template v-if="(provider || passkeys) && !forgotten">
      <a v-if="provider" class="way" :href="at(`/sign-in/begin?to=${encodeURIComponent(to())}`)">Sign in with {{ provider }}</a>
      <button v-if="passkeys" type="button" class="way" :disabled="busy" @click="byPasskey">Sign in with a passkey</button>
      <p class="or muted small"><span>or with a name and a password</span></p>
    </template>
    <label>Name<el-input v-model="name" name="name" aria-label="Name" autocomplete="username" autofocus size="large" /></label>
    <label v-if="!forgotten">Password<el-input v-model="password" name="password" aria-label="Password" type="password" show-password autocomplete="current-password" size="large" /></label>
    <label v-if="needsCode && !forgotten">Code of your device, or a recovery code<el-input v-model="code" name="code" aria-label="Code of your device, or a recovery code" inputmode="text" autocomplete="one-time-code" autofocus size="large" /></label>
    <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
    <p v-if="asked" role="status">● If there is a user of this name with a mail address, a link for a new password is on its way. The old password stays good until another is chosen.</p>
    <el-button type="primary" native-type="submit" size="large" :loading="busy" :disabled="asked">{{ forgotten ? 'Mail me a link' : 'Sign in' }}</el-button>
    <el-button link @click="turn">{{ forgotten ? 'Back to the sign-in' : 'Forgotten the password?' }}</el-button>
  </Door>
</template>

<style scoped>
.el-button + .el-button { margin: 0; }
.way { display: block; width: 100%; font: inherit; background: none; cursor: pointer; padding: 0.6rem 1rem; border: 1px solid var(--el-color-primary); border-radius: 4px; font-weight: 600; text-align: center; text-decoration: none; color: var(--el-color-primary); }
.way:hover { background: var(--el-color-primary-light-9); }
.or { display: flex; gap: 0.6rem; align-items: center; margin: 0; }
.or::before, .or::after { content: ''; flex: 1; border-top: 1px solid var(--el-border-color); }
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
</style>
