<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { reactive, ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import { away, instant } from '../words'

const { data: channels, error, load } = useLoaded(() => take(api.GET('/channels')), 10_000)
const { data: book, load: loadBook } = useLoaded(() => take(api.GET('/people')), 30_000)
const { data: notices } = useLoaded(() => take(api.GET('/notices')), 10_000)
const tests = reactive(new Map<string, Schemas['ChannelTest'] | 'busy'>())
const to = ref(localStorage.getItem('test-mail-to') ?? '')
const now = Date.now()

async function test(channel: Schemas['ChannelView']) {
  const mail = channel.kind === 'mail-server'
  if (mail) {
    const asked = await ElMessageBox.prompt('A short mail really goes out, so that each step is tried.', `Test ${channel.title}`, {
      inputValue: to.value,
      inputPlaceholder: 'name@host.example',
      inputPattern: /^[^\s@]+@[^\s@]+$/,
      inputErrorMessage: 'Write one mail address',
      confirmButtonText: 'Send a test mail',
      cancelButtonText: 'Leave it',
    }).catch(() => null)
    if (!asked) return
    to.value = asked.value
    localStorage.setItem('test-mail-to', asked.value)
  }
  tests.set(channel.name, 'busy')
  const body = { to: mail ? to.value : null }
  try {
    const asked = channel.name ? api.POST('/channels/{name}/test', { params: { path: { name: channel.name } }, body }) : api.POST('/mail-server/test', { body })
    tests.set(channel.name, await take(asked))
  } catch (problem) {
    tests.delete(channel.name)
    complain(problem)
  }
}
const result = (name: string) => {
  const found = tests.get(name)
  return found && found !== 'busy' ? found : null
}

async function restore(address: string) {
  try {
    await take(api.DELETE('/bounced-addresses/{name}', { params: { path: { name: address } } }))
    await loadBook()
  } catch (problem) {
    complain(problem)
  }
}
async function rejoin(report: string, address: string) {
  const sure = await ElMessageBox.confirm(`${address} has taken themselves off “${report}”. Put them back only if they ask for it.`, 'Send it to them again?', {
    confirmButtonText: 'Put them back',
    cancelButtonText: 'Leave it',
  }).catch(() => null)
  if (!sure) return
  try {
    await take(api.POST('/reports/{name}/departures/undo', { params: { path: { name: report } }, body: { address } }))
    await loadBook()
  } catch (problem) {
    complain(problem)
  }
}
const KINDS: Record<string, string> = { 'mail-server': 'Mail server', folder: 'Folder', upload: 'Upload', webhook: 'Web hook', syslog: 'Syslog' }
const noticeState = (kind: string) => (['recovered', 'delivered', 'still-quiet'].includes(kind) || kind.startsWith('source-up') ? 'done' : ['failed', 'set-aside'].includes(kind) || kind.startsWith('source-down') ? 'failed' : 'held')
</script>

<template>
  <div class="stack">
    <h1>Delivery</h1>
    <section class="card stack" aria-labelledby="ways">
      <div class="row spread">
        <h2 id="ways">Ways out</h2>
        <RouterLink :to="{ name: 'new', params: { kind: 'channel' } }"><el-button size="small" tabindex="-1">New channel</el-button></RouterLink>
      </div>
      <Loading :error="channels ? null : error" :ready="channels !== null" @again="load">
        <p v-if="channels && !channels.length" class="muted">No mail server is configured and no channel is defined. Add [mail] to the configuration, or apply a channel as a TOML file.</p>
        <ul v-else class="ways">
          <li v-for="channel in channels" :key="channel.name">
            <div class="way">
              <div>
                <strong>{{ channel.title }}</strong>
                <div class="muted small">{{ KINDS[channel.kind] ?? channel.kind }} · <code>{{ channel.place }}</code></div>
                <div class="small">{{ channel.used_by.length ? `Used by ${channel.used_by.join(', ')}` : 'No report uses it yet' }}</div>
                <div v-if="channel.waiting" class="small waiting">▲ {{ channel.waiting }} waiting, the oldest since {{ away(channel.oldest ?? '', now) }}</div>
              </div>
              <div class="row">
                <el-button size="small" type="primary" plain :loading="tests.get(channel.name) === 'busy'" :aria-label="`Test ${channel.title}`" @click="test(channel)">Test</el-button>
                <RouterLink v-if="channel.name" :to="{ name: 'definition', params: { kind: 'channel', name: channel.name } }"><el-button size="small" tabindex="-1">Edit</el-button></RouterLink>
              </div>
            </div>
            <ol v-if="result(channel.name)" class="steps" aria-live="polite">
              <li v-for="step in result(channel.name)!.steps" :key="step.name">
                <StateMark :state="step.works ? 'done' : 'failed'" /> <b>{{ step.name }}</b> <span class="words">{{ step.words }}</span>
                <div v-if="step.remedy" class="remedy">{{ step.remedy }}</div>
              </li>
            </ol>
          </li>
        </ul>
      </Loading>
    </section>

    <section class="card stack scroll" aria-labelledby="people">
      <div class="row spread">
        <h2 id="people">People and groups</h2>
        <span class="row">
          <RouterLink :to="{ name: 'new', params: { kind: 'person' } }"><el-button size="small" tabindex="-1">New person</el-button></RouterLink>
          <RouterLink :to="{ name: 'new', params: { kind: 'group' } }"><el-button size="small" tabindex="-1">New group</el-button></RouterLink>
        </span>
      </div>
      <p v-if="book && !book.people.length && !book.groups.length" class="muted">Nobody is known by name yet; reports name their recipients by address. A person or a group is a TOML file of its own.</p>
      <table v-if="book?.people.length" class="list folds">
        <thead><tr><th>Person</th><th>Address</th><th>Reads</th><th>Gets</th></tr></thead>
        <tbody>
          <tr v-for="person in book.people" :key="person.name">
            <td><RouterLink :to="{ name: 'definition', params: { kind: 'person', name: person.name } }">{{ person.title }}</RouterLink><span v-if="!person.active" class="muted"> (not active)</span><div v-if="person.user" class="muted small">signs in as {{ person.user }}</div></td>
            <td>{{ person.address }}</td>
            <td data-label="Reads">{{ [person.writing, person.zone].filter(Boolean).join(', ') || 'the report’s way' }}</td>
            <td data-label="Gets">{{ person.reports.join(', ') || '–' }}</td>
          </tr>
        </tbody>
      </table>
      <table v-if="book?.groups.length" class="list folds">
        <thead><tr><th>Group</th><th>Members</th><th>Recipients</th></tr></thead>
        <tbody>
          <tr v-for="group in book.groups" :key="group.name">
            <td><RouterLink :to="{ name: 'definition', params: { kind: 'group', name: group.name } }">{{ group.title }}</RouterLink></td>
            <td data-label="Members">{{ group.members.join(', ') }}</td>
            <td data-label="Recipients">{{ group.recipients.length }}</td>
          </tr>
        </tbody>
      </table>
      <template v-if="book?.bounced.length">
        <h3>Addresses that return mail</h3>
        <table class="list folds">
          <thead><tr><th>Address</th><th>Returned</th><th>In its words</th><th></th></tr></thead>
          <tbody>
            <tr v-for="one in book.bounced" :key="one.address">
              <td>{{ one.address }}<div v-if="one.set_aside_at" class="small aside">◆ set aside {{ instant(one.set_aside_at) }}</div></td>
              <td class="whole" data-label="Returned">{{ one.hard_bounces }} ×, last {{ instant(one.last_at) }}</td>
              <td class="small" data-label="Words">{{ one.words }}</td>
              <td><el-button size="small" @click="restore(one.address)">Send there again</el-button></td>
            </tr>
          </tbody>
        </table>
      </template>
      <template v-if="book?.departures.length">
        <h3>Who has left a report</h3>
        <table class="list folds">
          <thead><tr><th>Address</th><th>Report</th><th>When</th><th></th></tr></thead>
          <tbody>
            <tr v-for="one in book.departures" :key="one.report + one.address">
              <td>{{ one.address }}</td>
              <td data-label="Report">{{ one.report }}</td>
              <td class="whole" data-label="When">{{ instant(one.left_at) }}</td>
              <td><el-button size="small" @click="rejoin(one.report, one.address)">Put back</el-button></td>
            </tr>
          </tbody>
        </table>
      </template>
    </section>

    <section class="card stack scroll" aria-labelledby="notices">
      <h2 id="notices">What owners were told</h2>
      <p v-if="notices && !notices.length" class="muted">Nothing went wrong lately.</p>
      <table v-else-if="notices" class="list folds">
        <thead><tr><th>About</th><th>What</th><th>Told</th></tr></thead>
        <tbody>
          <tr v-for="(notice, index) in notices.slice(0, 25)" :key="index">
            <td><StateMark :state="noticeState(notice.kind)" :word="notice.kind.split(' ')[0].replaceAll('-', ' ')" /><div class="small">{{ notice.subject }}</div></td>
            <td><RouterLink v-if="notice.run" :to="{ name: 'run', params: { id: notice.run } }">{{ notice.text.split('\n')[0] }}</RouterLink><template v-else>{{ notice.text.split('\n')[0] }}</template></td>
            <td class="small">{{ notice.recipient?.replace('channel:', 'the channel ') ?? 'nobody to tell: the report has no owner' }}<div class="muted">{{ notice.told_at ? instant(notice.told_at) : 'in a moment' }}</div></td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
h2, h3, p { margin: 0; }
h3 { font-size: 1rem; margin-top: 0.4rem; }
.ways { list-style: none; margin: 0; padding: 0; display: grid; gap: 1rem; }
.ways > li { border-top: 1px solid var(--rule, #d5dde3); padding-top: 0.8rem; }
.ways > li:first-child { border-top: 0; padding-top: 0; }
.way { display: flex; justify-content: space-between; gap: 1rem; align-items: start; }
.way > .row { flex: none; }
.steps { margin: 0.7rem 0 0; padding: 0.7rem 0.9rem; list-style: none; display: grid; gap: 0.35rem; background: var(--ground, rgb(0 0 0 / 4%)); border-radius: 6px; }
.words { overflow-wrap: anywhere; }
.remedy { color: var(--warning); margin-left: 1.4rem; }
.waiting, .aside { color: var(--warning); }
</style>
