<script setup lang="ts">
// Your own passkeys: added by a device, removed again.
import { startRegistration } from '@simplewebauthn/browser'
import { ElMessage, ElMessageBox } from 'element-plus'
import { ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { user } from '../session'
import { away } from '../words'
import { deviceWords, type Creation } from './passkeys'
import { browserWords } from './words'

const { data: ways } = useLoaded(() => take(api.GET('/sign-in')))
const { data, error, load } = useLoaded(() => take(api.GET('/session/passkeys')))
const [title, password, problem] = [ref(browserWords(navigator.userAgent)), ref(''), ref('')]
const busy = ref(false)

async function add() {
  busy.value = true
  problem.value = ''
  try {
    const asked = await take(api.POST('/session/passkeys/challenge', { body: { password: password.value } }))
    const optionsJSON = (asked.options as { publicKey: Creation }).publicKey
    const answer = { ...(await startRegistration({ optionsJSON })) }
    await take(api.POST('/session/passkeys', { body: { challenge: asked.challenge, title: title.value.trim(), answer } }))
    password.value = ''
    ElMessage({ type: 'success', message: 'The passkey is added. You can sign in with it.', offset: 72 })
    await load()
  } catch (refused) {
    problem.value = deviceWords(refused)
  } finally {
    busy.value = false
  }
}
async function remove(one: Schemas['Passkey']) {
  const yes = await ElMessageBox.confirm('Nobody signs in with it any more. If the device allows it, remove the passkey there, too.', `Remove the passkey “${one.title}”?`, { confirmButtonText: 'Remove', cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (!yes) return
  await take(api.DELETE('/session/passkeys/{id}', { params: { path: { id: one.id } } })).catch(complain)
  await load()
}
</script>

<template>
  <section class="card stack scroll" aria-labelledby="passkeys">
    <h2 id="passkeys">Passkeys</h2>
    <p class="muted">A key that your phone, computer or security key keeps. It signs you in with your fingerprint, face or PIN instead of name, password and code, and works on this site only.</p>
    <Loading :error="data ? null : error" :ready="data !== null && ways !== null" @again="load">
      <table v-if="data?.length" class="list folds">
        <thead><tr><th>Device</th><th>Added</th><th>Used last</th><td></td></tr></thead>
        <tbody>
          <tr v-for="one in data" :key="one.id">
            <td>{{ one.title }}</td>
            <td class="whole" data-label="Added">{{ away(one.created_at, Date.now()) }}</td>
            <td class="whole" data-label="Used last">{{ one.last_used_at ? away(one.last_used_at, Date.now()) : 'never' }}</td>
            <td><el-button size="small" :aria-label="`Remove ${one.title}`" @click="remove(one)">Remove</el-button></td>
          </tr>
        </tbody>
      </table>
      <p v-if="!ways?.passkeys">Browsers keep passkeys only for an address that begins with https:// and has a name in it. This installation is reached by another; ask your administrator.</p>
      <form v-else class="stack narrow" @submit.prevent="add">
        <input class="hidden" type="text" name="username" autocomplete="username" :value="user?.name" tabindex="-1" aria-hidden="true" readonly />
        <label>What you call the device<el-input v-model="title" name="device" aria-label="What you call the device" maxlength="80" /></label>
        <label>Your password<el-input v-model="password" name="password-for-passkey" aria-label="Your password, to add a passkey" type="password" show-password autocomplete="current-password" /></label>
        <div><el-button native-type="submit" :loading="busy" :disabled="!password || !title.trim()">Add a passkey</el-button></div>
      </form>
      <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
    </Loading>
  </section>
</template>

<style scoped>
.narrow { max-width: 26rem; }
.hidden { position: absolute; width: 1px; height: 1px; opacity: 0; pointer-events: none; }
p { margin: 0; }
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
</style>
