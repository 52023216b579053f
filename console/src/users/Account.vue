<script setup lang="ts">
// Your own sign-in: password, browsers and tokens.
import { ElMessage } from 'element-plus'
import { ref } from 'vue'

import { api, take } from '../api/client'
import { complain } from '../complain'
import { useLoaded } from '../parts/load'
import Loading from '../parts/Loading.vue'
import { isHeld, user } from '../session'
import { away, instant } from '../words'
import NewPassword from './NewPassword.vue'
import Passkeys from './Passkeys.vue'
import SecondFactor from './SecondFactor.vue'
import Teams from './Teams.vue'
import { browserWords, passwordProblem, roleLabel, ROLES, scopeLabel, SCOPES, type TokenScope } from './words'

const { data: sessions, error, load } = useLoaded(() => take(api.GET('/sessions')), 60_000)
const { data: tokens, load: loadTokens } = useLoaded(() => take(api.GET('/tokens')), 60_000)
const [current, password, again, problem] = [ref(''), ref(''), ref(''), ref('')]
const busy = ref(false)

async function changePassword() {
  problem.value = current.value ? (passwordProblem(password.value, again.value) ?? '') : 'Give the password that you have.'
  if (problem.value) return
  busy.value = true
  try {
    await take(api.PUT('/session/password', { body: { current: current.value, new: password.value } }))
    current.value = password.value = again.value = ''
    ElMessage({ type: 'success', message: 'The password is changed. Other browsers are signed out.', offset: 72 })
    await load()
  } catch (refused) {
    problem.value = refused instanceof Error ? refused.message : String(refused)
  } finally {
    busy.value = false
  }
}
async function end(id: string) {
  await take(api.DELETE('/sessions/{id}', { params: { path: { id } } })).catch(complain)
  await load()
}
const [label, scope, days] = [ref(''), ref<TokenScope>('read'), ref<number | undefined>(90)]
const made = ref<string | null>(null)
async function makeToken() {
  busy.value = true
  try {
    const body = { label: label.value.trim(), scope: scope.value, days: days.value ?? null }
    made.value = (await take(api.POST('/session/tokens', { body }))).token
    label.value = ''
    await loadTokens()
  } catch (refused) {
    complain(refused)
  } finally {
    busy.value = false
  }
}
async function revoke(id: string) {
  await take(api.DELETE('/tokens/{id}', { params: { path: { id } } })).catch(complain)
  await loadTokens()
}
</script>

<template>
  <div v-if="user" class="stack">
    <div>
      <h1>{{ user.name }}</h1>
      <p class="muted">{{ roleLabel(user.role) }}, who {{ ROLES.find((one) => one.value === user!.role)?.may }}.</p>
    </div>
    <Teams v-if="user.role !== 'administrator' && user.teams.length && !isHeld" />
    <section v-if="user.signs_in_by !== 'password'" class="card stack">
      <h2>Password</h2>
      <p v-if="user.signs_in_by === 'directory'">You sign in by the organisation's directory. Your password is changed there.</p>
      <p v-else>You sign in by the organisation's identity provider. Your password and your second factor are changed there. For the command line, make a token below and give it to <code>maple-lark sign-in --with-token</code>.</p>
    </section>
    <section v-else class="card" aria-labelledby="password">
      <form class="stack narrow" @submit.prevent="changePassword">
        <h2 id="password">Password</h2>
        <input class="hidden" type="text" name="username" autocomplete="username" :value="user.name" tabindex="-1" aria-hidden="true" readonly />
        <label>Current password<el-input v-model="current" name="current-password" aria-label="Current password" type="password" show-password autocomplete="current-password" /></label>
        <NewPassword v-model:password="password" v-model:again="again" :problem="problem" />
        <div><el-button type="primary" native-type="submit" :loading="busy">Change the password</el-button></div>
      </form>
    </section>
    <SecondFactor v-if="user.signs_in_by !== 'provider'" />
    <Passkeys v-if="user.signs_in_by === 'password'" />
    <section class="card stack scroll" aria-labelledby="browsers">
      <h2 id="browsers">Signed in</h2>
      <Loading :error="sessions ? null : error" :ready="sessions !== null" @again="load">
        <table class="list folds">
          <thead><tr><th>Browser</th><th>From</th><th>Since</th><th>Until</th><td></td></tr></thead>
          <tbody>
            <tr v-for="one in sessions" :key="one.id">
              <td :title="one.used_with ?? undefined">{{ browserWords(one.used_with) }}<strong v-if="one.current"> (this one)</strong></td>
              <td data-label="From">{{ one.address ?? '–' }}</td>
              <td class="whole" data-label="Since">{{ away(one.created_at, Date.now()) }}</td>
              <td class="whole" data-label="Until">{{ instant(one.expires_at) }}</td>
              <td><el-button v-if="!one.current" size="small" :aria-label="`Sign out ${browserWords(one.used_with)}`" @click="end(one.id)">Sign out</el-button></td>
            </tr>
          </tbody>
        </table>
      </Loading>
    </section>
    <section class="card stack scroll" aria-labelledby="tokens">
      <h2 id="tokens">Tokens of programs</h2>
      <p v-if="tokens && !tokens.length" class="muted">None. <code>maple-lark sign-in</code> makes one for the command line.</p>
      <table v-if="tokens?.length" class="list folds">
        <thead><tr><th>For</th><th>Good for</th><th>Until</th><th>Used last</th><td></td></tr></thead>
        <tbody>
          <tr v-for="one in tokens" :key="one.id">
            <td>{{ one.label || 'unnamed' }}</td>
            <td data-label="Good for">{{ scopeLabel(one.scope) }}</td>
            <td class="whole" data-label="Until">{{ one.expires_at ? instant(one.expires_at) : 'you revoke it' }}</td>
            <td class="whole" data-label="Used last">{{ one.last_used_at ? away(one.last_used_at, Date.now()) : 'never' }}</td>
            <td><el-button size="small" :aria-label="`Revoke ${one.label}`" @click="revoke(one.id)">Revoke</el-button></td>
          </tr>
        </tbody>
      </table>
      <p v-if="made" class="made" role="status">
        <strong>The token, shown only now:</strong> <code>{{ made }}</code>
      </p>
      <form class="token" @submit.prevent="makeToken">
        <label>What it is for<el-input v-model="label" aria-label="What it is for" maxlength="80" placeholder="nightly job" /></label>
        <label>Good for<el-select v-model="scope" aria-label="Good for"><el-option v-for="one in SCOPES" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
        <label>Days<el-input-number v-model="days" aria-label="Days" :min="1" :max="3660" :controls="false" placeholder="no end" /></label>
        <el-button native-type="submit" :loading="busy" :disabled="!label.trim()">Make a token</el-button>
      </form>
    </section>
  </div>
</template>

<style scoped>
.narrow { max-width: 26rem; }
.token { display: grid; grid-template-columns: minmax(10rem, 2fr) minmax(10rem, 2fr) 6rem auto; gap: 0.75rem; align-items: end; }
.token .el-select { font-weight: 400; }
.token .el-input-number { width: 100%; }
.made code { overflow-wrap: anywhere; user-select: all; }
@media (max-width: 46rem) { .token { grid-template-columns: 1fr; } }
.hidden { position: absolute; width: 1px; height: 1px; opacity: 0; pointer-events: none; }
p { margin: 0; }
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
</style>
