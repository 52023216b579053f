<script setup lang="ts">
// Those who sign in, for administrators.
import { ElMessage, ElMessageBox } from 'element-plus'
import { reactive, ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { useLoaded } from '../parts/load'
import Loading from '../parts/Loading.vue'
import { user as me } from '../session'
import { away, instant } from '../words'
import Teams from './Teams.vue'
import { factorWords, heldFrom, heldWords, reportWords, ROLES, SIGNS_IN_BY, userState, type Held, type Role } from './words'

const SIZE = 50
const page = ref(1)
const { data, error, load } = useLoaded(() => take(api.GET('/users', { params: { query: { page: page.value, size: SIZE } } })), 30_000)
const inviting = ref(false)
const fresh = reactive<{ name: string; email: string; role: Role }>({ name: '', email: '', role: 'viewer' as Role })
const problem = ref('')
const busy = ref(false)
/** The link that somebody has to be handed, as long as the page shows it. */
const link = ref<Schemas['Invitation'] | null>(null)

async function told(invitation: Schemas['Invitation']) {
  link.value = invitation.link ? invitation : null
  if (invitation.mailed_to) ElMessage({ type: 'success', message: `The link for ${invitation.name} was mailed to ${invitation.mailed_to}.`, offset: 72 })
  await load()
}
async function invite() {
  busy.value = true
  problem.value = ''
  try {
    const body = { name: fresh.name.trim(), role: fresh.role, email: fresh.email.trim() || null }
    await told(await take(api.POST('/users', { body })))
    inviting.value = false
    Object.assign(fresh, { name: '', email: '', role: 'viewer' })
  } catch (refused) {
    problem.value = refused instanceof Error ? refused.message : String(refused)
  } finally {
    busy.value = false
  }
}
async function done(work: () => Promise<unknown>) {
  try {
    await work()
  } catch (refused) {
    complain(refused)
  }
  await load()
}
const at = (name: string) => ({ params: { path: { name } } })
const change = (name: string, body: Schemas['UserChange']) => done(() => take(api.PATCH('/users/{name}', { ...at(name), body })))
const renew = (name: string) => done(async () => told(await take(api.POST('/users/{name}/invitation', at(name)))))

async function act(entry: Schemas['UserEntry'], what: string) {
  if (what === 'link') return renew(entry.name)
  if (what === 'enable') return change(entry.name, { disabled: false })
  const ask = (words: string, title: string, press: string) =>
    ElMessageBox.confirm(words, title, { confirmButtonText: press, cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (what === 'disable' && (await ask('They are signed out everywhere and cannot sign in. Nothing of theirs is removed.', `Disable ${entry.name}?`, 'Disable'))) return change(entry.name, { disabled: true })
  if (what === 'factor' && (await ask('They sign in with the password alone then, until they begin another or add a passkey. Do this for somebody who has lost their device and their recovery codes.', `Reset the second factor and the passkeys of ${entry.name}?`, 'Reset'))) return done(() => take(api.DELETE('/users/{name}/second-factor', at(entry.name))))
  if (what === 'reports') return handOver(entry.name)
  if (what === 'remove' && (await ask(await removalWords(entry), `Remove ${entry.name}?`, 'Remove'))) return done(() => take(api.DELETE('/users/{name}', at(entry.name))))
  if (what === 'values') {
    const asked = await ElMessageBox.prompt('A line for each parameter. They see documents and published views that were made with these values, and nothing else. Without a line they are held to none.', `Values that ${entry.name} may see`, { inputType: 'textarea', inputValue: heldWords(entry.held_to), inputPlaceholder: 'port = havnes, skarvoy', inputValidator: (text) => (typeof heldFrom(text ?? '') === 'string' ? (heldFrom(text ?? '') as string) : true), confirmButtonText: 'Save', cancelButtonText: 'Cancel' }).catch(() => null)
    if (asked) return change(entry.name, { held_to: heldFrom(asked.value ?? '') as Held })
  }
  if (what === 'email') {
    const asked = await ElMessageBox.prompt('Links for a password go there.', `Mail address of ${entry.name}`, { inputValue: entry.email ?? '', inputPattern: /^[^\s@]+@[^\s@]+$/, inputErrorMessage: 'Write one mail address', confirmButtonText: 'Save', cancelButtonText: 'Cancel' }).catch(() => null)
    if (asked) return change(entry.name, { email: asked.value })
  }
}
/** What goes and what stays with somebody who is removed. */
async function removalWords(entry: Schemas['UserEntry']): Promise<string> {
  const words = 'Their sessions and tokens go. Reports and other definitions stay.'
  const owned = entry.email ? await take(api.GET('/users/{name}/reports', at(entry.name))).catch(() => null) : null
  return owned?.reports.length ? `${words} They own ${reportWords(owned.reports)}: hand these over first, so that notices reach somebody.` : words
}
async function handOver(name: string) {
  const owned = await take(api.GET('/users/{name}/reports', at(name))).catch(complain)
  if (!owned) return
  if (!owned.reports.length) return ElMessage({ message: `${owned.owner} owns no report.`, offset: 72 })
  const asked = await ElMessageBox.prompt(`${owned.owner} owns ${reportWords(owned.reports)}. Name who is to own that: a user with a mail address, or an address. Notices go there from then on.`, `Hand over the reports of ${name}`, { inputPlaceholder: 'ada.berg', inputPattern: /\S/, inputErrorMessage: 'Say who gets them', confirmButtonText: 'Hand over', cancelButtonText: 'Cancel' }).catch(() => null)
  if (!asked) return
  return done(async () => {
    const handed = await take(api.POST('/users/{name}/hand-over', { ...at(name), body: { to: asked.value.trim() } }))
    ElMessage({ type: 'success', message: `${handed.owner} owns ${reportWords(handed.reports)} now.`, offset: 72 })
  })
}
async function copy() {
  await navigator.clipboard.writeText(link.value?.link ?? '').then(
    () => ElMessage({ type: 'success', message: 'Copied.', offset: 72 }),
    () => complain('The browser does not let it be copied; select it instead.'),
  )
}
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Users and teams</h1>
      <div class="row">
        <RouterLink :to="{ name: 'audit' }"><el-button>Audit trail</el-button></RouterLink>
        <el-button type="primary" @click="inviting = true">Invite somebody</el-button>
      </div>
    </div>
    <section v-if="link" class="card stack handed" aria-live="polite">
      <div class="row spread"><strong>Hand this link to {{ link.name }}</strong><el-button size="small" @click="link = null">Close</el-button></div>
      <p>It was not mailed: {{ link.reason }}. It is good once, until {{ instant(link.expires_at) }}, and shown only now.</p>
      <div class="row"><code>{{ link.link }}</code><el-button size="small" type="primary" plain @click="copy">Copy</el-button></div>
    </section>
    <section class="card stack scroll">
      <Loading :error="data ? null : error" :ready="data !== null" @again="load">
        <table class="list folds">
          <thead><tr><th>User</th><th>Role</th><th>State</th><th>Last seen</th><td></td></tr></thead>
          <tbody>
            <tr v-for="one in data?.items" :key="one.name">
              <td><strong>{{ one.name }}</strong><span v-if="one.name === me?.name" class="muted"> (you)</span><div class="muted small">{{ one.email ?? 'no mail address' }}</div></td>
              <td data-label="Role">
                <span v-if="one.signs_in_by !== 'password'">{{ ROLES.find((role) => role.value === one.role)?.label }}<span class="muted small"> by its groups</span></span>
                <el-select v-else :model-value="one.role" size="small" class="role" :aria-label="`Role of ${one.name}`" @update:model-value="change(one.name, { role: $event })">
                  <el-option v-for="role in ROLES" :key="role.value" :value="role.value" :label="role.label" :title="role.may" />
                </el-select>
              </td>
              <td data-label="State"><span :class="['state', userState(one).tone]"><span aria-hidden="true">{{ userState(one).mark }}</span> {{ userState(one).word }}</span><div v-if="one.second_factor || one.passkeys" class="muted small">{{ factorWords(one) }}</div><div v-if="heldWords(one.held_to)" class="muted small">sees only {{ heldWords(one.held_to) }}</div><div v-if="SIGNS_IN_BY[one.signs_in_by] && !one.left_at" class="muted small">{{ SIGNS_IN_BY[one.signs_in_by] }}</div></td>
              <td class="whole" data-label="Last seen">{{ one.last_seen_at ? away(one.last_seen_at, Date.now()) : 'never' }}</td>
              <td>
                <el-dropdown trigger="click" @command="act(one, $event)">
                  <el-button size="small" :aria-label="`More for ${one.name}`">More</el-button>
                  <template #dropdown>
                    <el-dropdown-menu>
                      <el-dropdown-item v-if="!one.disabled_at && one.signs_in_by === 'password'" command="link">{{ one.has_password ? 'Link for a new password' : 'Invite again' }}</el-dropdown-item>
                      <el-dropdown-item v-if="one.role === 'viewer'" command="values">Values they may see</el-dropdown-item>
                      <el-dropdown-item v-if="one.signs_in_by === 'password'" command="email">Mail address</el-dropdown-item>
                      <el-dropdown-item v-if="one.disabled_at" command="enable">Enable</el-dropdown-item>
                      <el-dropdown-item v-else command="disable">Disable</el-dropdown-item>
                      <el-dropdown-item v-if="one.second_factor || one.passkeys" command="factor">Reset the second factor and passkeys</el-dropdown-item>
                      <el-dropdown-item v-if="one.email" command="reports">Hand reports over</el-dropdown-item>
                      <el-dropdown-item command="remove" divided>Remove</el-dropdown-item>
                    </el-dropdown-menu>
                  </template>
                </el-dropdown>
              </td>
            </tr>
          </tbody>
        </table>
        <el-pagination v-if="data && data.total > SIZE" v-model:current-page="page" layout="prev, pager, next" :page-size="SIZE" :total="data.total" @current-change="load" />
      </Loading>
    </section>
    <Teams />
    <el-dialog v-model="inviting" title="Invite somebody" width="min(30rem, 94vw)" append-to="#dialogs">
      <form id="invite" class="stack" @submit.prevent="invite">
        <label>Name to sign in with<el-input v-model="fresh.name" name="name" aria-label="Name to sign in with" placeholder="runa.holm" autocomplete="off" /></label>
        <label>Mail address <span class="muted">(without one you hand the link over)</span><el-input v-model="fresh.email" name="email" aria-label="Mail address" type="email" placeholder="runa@orrin-sound.example" autocomplete="off" /></label>
        <fieldset>
          <legend>Role</legend>
          <el-radio-group v-model="fresh.role" aria-label="Role">
            <el-radio v-for="role in ROLES" :key="role.value" :value="role.value"><strong>{{ role.label }}</strong> <span class="muted">{{ role.may }}</span></el-radio>
          </el-radio-group>
        </fieldset>
        <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
      </form>
      <template #footer>
        <el-button @click="inviting = false">Cancel</el-button>
        <el-button type="primary" native-type="submit" form="invite" :loading="busy" @click="invite">Invite</el-button>
      </template>
    </el-dialog>
  </div>
</template>

<style scoped>
.handed { border-left: 4px solid var(--lamp); }
.handed code { overflow-wrap: anywhere; flex: 1; }
.role { width: 9.5rem; }
.state { white-space: nowrap; font-weight: 600; }
.ok { color: var(--ok); }
.running { color: var(--running); }
.warning { color: var(--warning); }
.quiet { color: var(--muted); }
p { margin: 0; }
label:not(.el-radio) { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
label .muted { font-weight: 400; }
fieldset { border: 0; padding: 0; margin: 0; }
legend { font-weight: 600; font-size: 0.9rem; padding: 0; }
fieldset .el-radio-group { display: grid; gap: 0.1rem; }
fieldset .el-radio { height: auto; min-height: 1.8rem; white-space: normal; margin: 0; font-weight: 400; }
.problem { color: var(--critical); font-weight: 600; }
</style>
