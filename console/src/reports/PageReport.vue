<script setup lang="ts">
// A report of a page that is there already: its address, who gets it, when. Everything else has a
// usual answer and can be changed afterwards.
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { hasWindow, splitAddress, withWindow } from '../dashboards/page'
import PageLook from '../dashboards/PageLook.vue'
import type { Keys } from '../forms/field'
import { isReference, isSecretStep, nameOf, secretName } from '../forms/fields'
import Steps from '../forms/Steps.vue'
import { useLoaded } from '../parts/load'
import { newName } from '../session'

const router = useRouter()
const { data: sources } = useLoaded(() => take(api.GET('/sources')))
const { data: book } = useLoaded(() => take(api.GET('/people')))
const pages = computed(() => (sources.value ?? []).filter((one) => one.kind === 'web-page'))
const people = computed(() => [...(book.value?.people ?? []), ...(book.value?.groups ?? [])].map((one) => ({ value: one.name, label: one.title })))

const NEW = ''
const source = ref(NEW)
const address = ref('')
const title = ref('')
const signIn = ref<'' | 'form' | 'basic' | 'bearer'>('')
const user = ref('')
const password = ref('')
const steps = ref<Keys[]>([{ open: '/sign-in' }, { fill: 'Name', with: '' }, { fill: 'Password', with: '' }, { press: 'Sign in' }])
const period = ref('week')
const time = ref('06:00')
const to = ref<string[]>([])
const zone = ref(Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC')
const zones = ['UTC', ...Intl.supportedValuesOf('timeZone')]
const wrong = ref<string[]>([])
const busy = ref('')
const look = ref<InstanceType<typeof PageLook> | null>(null)
const looked = ref<Schemas['PageLook'] | null>(null)

const PERIODS = [
  { value: 'day', label: 'the day before, every day' },
  { value: 'week', label: 'the week before, every Monday' },
  { value: 'month', label: 'the month before, on the first' },
]
const split = computed(() => (source.value === NEW ? splitAddress(address.value) : { url: '', page: address.value.startsWith('/') ? address.value : `/${address.value}` }))
const page = computed(() => (split.value ? withWindow(split.value.page) : ''))
const advice = computed(() => (hasWindow(page.value) ? '● The report’s window is put into it:' : 'It has no times that the window could take the place of. Where the page takes them, write {{ from }} and {{ to }} there:'))
const called = computed(() => title.value.trim() || looked.value?.title || 'The page')
const name = computed(() => newName(called.value) || newName('page'))
const made = ref('')
const query = computed<Keys>(() => ({ source: source.value || made.value, page: page.value, printed: true }))
const window_ = computed(() => ({ previous: period.value }) as unknown as Record<string, never>)

async function stored(key: string, value: string, of: string): Promise<string> {
  if (!value || isReference(value)) return value
  const secret = secretName(of, `source.${key}`)
  await take(api.PUT('/secrets/{name}', { params: { path: { name: secret } }, body: { value } }))
  return `secret:${secret}`
}
/** The source for an address that is not known yet; it is made once and then stays. */
async function sourceFor(): Promise<string> {
  if (source.value) return source.value
  if (made.value) return made.value
  const host = split.value!.url.replace(/^https?:\/\//i, '')
  const own = nameOf(host)
  const keys: Keys = { name: own, title: host, kind: 'web-page', url: split.value!.url }
  if (signIn.value === 'basic') keys['sign-in'] = { kind: 'basic', user: user.value, password: await stored('password', password.value, own) }
  if (signIn.value === 'bearer') keys['sign-in'] = { kind: 'bearer', token: await stored('token', password.value, own) }
  if (signIn.value === 'form') {
    const written: Keys[] = []
    for (const step of steps.value) written.push(isSecretStep(step) ? { ...step, with: await stored('password', String(step.with ?? ''), own) } : step)
    keys['sign-in'] = { kind: 'form', do: written }
  }
  await take(api.POST('/definitions/{kind}', { params: { path: { kind: 'source' } }, body: { keys: { source: keys } } }))
  made.value = own
  return own
}
const said = (problem: unknown) => (problem instanceof ApiProblem && problem.problems.length ? problem.problems.map((one) => one.message) : [problem instanceof Error ? problem.message : String(problem)])

async function tried() {
  wrong.value = []
  if (!split.value) {
    wrong.value = [`“${address.value}” is not an address; write it as in the browser, with http:// or https://.`]
    return
  }
  busy.value = 'look'
  try {
    await sourceFor()
    await new Promise((done) => setTimeout(done))
    await look.value?.see()
  } catch (problem) {
    wrong.value = said(problem)
  } finally {
    busy.value = ''
  }
}
async function make() {
  wrong.value = []
  busy.value = 'make'
  try {
    const from = await sourceFor()
    const asked = { name: 'page', source: from, page: page.value, printed: true }
    const dashboard = { dashboard: { name: name.value, title: called.value }, query: [asked], section: [{ title: 'As it looks', block: [{ show: 'page', title: called.value, query: 'page' }] }] }
    const schedule = period.value === 'day' ? { every: 'day', at: time.value } : period.value === 'week' ? { every: 'week', on: ['monday'], at: time.value } : { every: 'month', on: ['1'], at: time.value }
    const report = { report: { name: name.value, title: called.value, 'time-zone': zone.value, dashboards: [name.value], formats: ['pdf'] }, window: { previous: period.value }, schedule, ...(to.value.length ? { audience: [{ name: 'Readers', to: to.value }] } : {}) }
    const post = (kind: string, keys: object) => take(api.POST('/definitions/{kind}', { params: { path: { kind } }, body: { keys: keys as Record<string, never> } }))
    await post('dashboard', dashboard)
    try {
      await post('report', report)
    } catch (problem) {
      await take(api.DELETE('/definitions/{kind}/{name}', { params: { path: { kind: 'dashboard', name: name.value } } }))
      throw problem
    }
    await router.push({ name: 'report', params: { name: name.value } })
  } catch (problem) {
    wrong.value = said(problem)
  } finally {
    busy.value = ''
  }
}
</script>

<template>
  <div class="stack page">
    <header>
      <h1>A page I already have</h1>
      <p class="muted">It is opened in a browser for each run, with the report’s own window, and sent as it looks.</p>
    </header>
    <section class="card stack">
      <h2>Which page</h2>
      <label v-if="pages.length"><span class="small">Where</span><el-select v-model="source" :empty-values="[null]" aria-label="Where the page is"><el-option v-for="one in pages" :key="one.name" :value="one.name" :label="one.title" /><el-option :value="NEW" label="Somewhere else" /></el-select></label>
      <label><span class="small">{{ source ? 'What stands behind its address' : 'Address, as in the browser' }}</span><el-input v-model="address" aria-label="Address of the page" :placeholder="source ? '/board?from={{ from }}&to={{ to }}' : 'https://board.example.org/day?from=…&to=…'" :disabled="made !== ''" /></label>
      <p v-if="address" class="small" :class="hasWindow(page) ? 'good' : 'muted'">{{ advice }} <code>{{ page }}</code></p>
      <template v-if="!source">
        <label><span class="small">Sign-in</span><el-select v-model="signIn" :empty-values="[null]" aria-label="Sign-in" :disabled="made !== ''"><el-option value="" label="None" /><el-option value="form" label="A form on the page" /><el-option value="basic" label="User and password by HTTP" /><el-option value="bearer" label="Token" /></el-select></label>
        <div v-if="signIn === 'form'"><span class="small">What somebody does who signs in</span><Steps v-model="steps" title="Steps of the sign-in" secret /></div>
        <label v-if="signIn === 'basic'"><span class="small">User</span><el-input v-model="user" aria-label="User" /></label>
        <label v-if="signIn === 'basic' || signIn === 'bearer'"><span class="small">{{ signIn === 'basic' ? 'Password' : 'Token' }}</span><el-input v-model="password" type="password" autocomplete="new-password" aria-label="Password" /></label>
      </template>
      <div class="row"><el-button :loading="busy === 'look'" :disabled="!address || busy !== ''" @click="tried">Try it</el-button><span v-if="made" class="muted small">Its source “{{ made }}” is kept; <RouterLink :to="{ name: 'form', params: { kind: 'source', name: made } }">change its sign-in</RouterLink>.</span></div>
      <PageLook v-if="source || made" v-show="looked || busy" ref="look" :keys="query" :when="{ window: window_, time_zone: zone, values: {} }" @looked="looked = $event" />
    </section>
    <section class="card stack">
      <h2>Who gets it, and when</h2>
      <label><span class="small">Title</span><el-input v-model="title" aria-label="Title" :placeholder="called" /></label>
      <div class="pair">
        <label><span class="small">Window</span><el-select v-model="period" aria-label="Window"><el-option v-for="one in PERIODS" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
        <label><span class="small">At</span><el-input v-model="time" aria-label="At" placeholder="06:00" /></label>
        <label><span class="small">Time zone</span><el-select v-model="zone" filterable aria-label="Time zone"><el-option v-for="one in zones" :key="one" :value="one" :label="one" /></el-select></label>
      </div>
      <label><span class="small">To</span><el-select v-model="to" multiple filterable allow-create default-first-option aria-label="To" placeholder="People, groups, addresses"><el-option v-for="one in people" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
      <p v-for="one in wrong" :key="one" class="bad" role="alert">◆ {{ one }}</p>
      <div><el-button type="primary" :loading="busy === 'make'" :disabled="!split || busy !== ''" @click="make">Make the report</el-button></div>
    </section>
  </div>
</template>

<style scoped>
.page { max-width: 52rem; }
h1, h2, p { margin: 0; }
h2 { font-size: 1.05rem; }
label { display: grid; gap: 0.25rem; min-width: 0; }
.pair { display: grid; grid-template-columns: repeat(auto-fit, minmax(11rem, 1fr)); gap: 0.8rem; }
.bad { color: var(--critical); overflow-wrap: anywhere; }
.good { color: var(--ok); }
code { overflow-wrap: anywhere; }
</style>
