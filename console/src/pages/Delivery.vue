<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { reactive, ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import { isAdministrator, isAuthor, mayChange } from '../session'
import { channelKind } from '../forms/channels'
import { away, instant, noticeWords } from '../words'

const { data: channels, error, load } = useLoaded(() => take(api.GET('/channels')), 10_000)
// The address book is for those who write to people.
const { data: book, load: loadBook } = useLoaded(() => (isAuthor.value ? take(api.GET('/people')) : Promise.resolve(null)), 30_000)
const { data: notices } = useLoaded(() => take(api.GET('/notices')), 10_000)
const tests = reactive(new Map<string, Schemas['ChannelTest'] | 'busy'>())
const to = ref(localStorage.getItem('test-mail-to') ?? '')
const now = Date.now()

async function test(channel: Schemas['ChannelView']) {
  const mail = channel.kind === 'mail-server'
  if (mail) {
    const asked = await ElMessageBox.prompt('A real mail is sent, so that each step is tested.', `Test ${channel.title}`, {
      inputValue: to.value,
      inputPlaceholder: 'name@host.example',
      inputPattern: /^[^\s@]+@[^\s@]+$/,
      inputErrorMessage: 'Write one mail address',
      confirmButtonText: 'Send a test mail',
      cancelButtonText: 'Cancel',
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
async function resubscribe(report: string, address: string) {
  const sure = await ElMessageBox.confirm(`${address} unsubscribed from “${report}”. Resubscribe them only if they ask for it.`, 'Send this report to them again?', {
    confirmButtonText: 'Resubscribe',
    cancelButtonText: 'Cancel',
  }).catch(() => null)
  if (!sure) return
  try {
    await take(api.DELETE('/reports/{name}/unsubscribes/{address}', { params: { path: { name: report, address } } }))
    await loadBook()
  } catch (problem) {
    complain(problem)
  }
}
</script>

<template>
  <div class="stack">
    <h1>Delivery</h1>
    <section class="card stack" aria-labelledby="channels">
      <div class="row spread">
        <h2 id="channels">Channels</h2>
        <RouterLink v-if="mayChange('channel')" :to="{ name: 'new', params: { kind: 'channel' } }"><el-button size="small" tabindex="-1">New channel</el-button></RouterLink>
      </div>
      <Loading :error="channels ? null : error" :ready="channels !== null" @again="load">
        <p v-if="channels && !channels.length" class="muted">There is no mail server and no channel yet. Add [mail] to the configuration of the service, or a new channel here.</p>
        <ul v-else class="channels">
          <li v-for="channel in channels" :key="channel.name">
            <div class="way">
              <div>
                <strong>{{ channel.title }}</strong>
                <div class="muted small">{{ channelKind(channel.kind) }} · <code>{{ channel.place }}</code></div>
                <div class="small">{{ channel.used_by.length ? `Used by ${channel.used_by.join(', ')}` : 'No report uses it yet' }}</div>
                <div v-if="channel.waiting" class="small waiting">▲ {{ channel.waiting }} waiting, the oldest since {{ away(channel.oldest ?? '', now) }}</div>
              </div>
              <div class="row">
                <el-button v-if="isAuthor" size="small" type="primary" plain :loading="tests.get(channel.name) === 'busy'" :aria-label="`Test ${channel.title}`" @click="test(channel)">Test</el-button>
                <RouterLink v-if="channel.name && mayChange('channel')" :to="{ name: 'form', params: { kind: 'channel', name: channel.name } }"><el-button size="small" tabindex="-1">Edit</el-button></RouterLink>
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

    <section v-if="isAuthor" class="card stack scroll" aria-labelledby="people">
      <div class="row spread">
        <h2 id="people">People and groups</h2>
        <span class="row">
          <RouterLink :to="{ name: 'new', params: { kind: 'person' } }"><el-button size="small" tabindex="-1">New person</el-button></RouterLink>
          <RouterLink :to="{ name: 'new', params: { kind: 'group' } }"><el-button size="small" tabindex="-1">New group</el-button></RouterLink>
        </span>
      </div>
      <p v-if="book && !book.people.length && !book.groups.length" class="muted">There are no people or groups yet; reports name their recipients by address.</p>
      <table v-if="book?.people.length" class="list folds">
        <thead><tr><th>Person</th><th>Address</th><th>Format</th><th>Reports</th></tr></thead>
        <tbody>
          <tr v-for="person in book.people" :key="person.name">
            <td><RouterLink :to="{ name: 'form', params: { kind: 'person', name: person.name } }">{{ person.title }}</RouterLink><span v-if="!person.active" class="muted"> (not active)</span><div v-if="person.user" class="muted small">signs in as {{ person.user }}</div></td>
            <td>{{ person.address }}</td>
            <td data-label="Format">{{ [person.number_format, person.time_zone].filter(Boolean).join(', ') || 'as the report' }}</td>
            <td data-label="Reports">{{ person.reports.join(', ') || '–' }}</td>
          </tr>
        </tbody>
      </table>
      <table v-if="book?.groups.length" class="list folds">
        <thead><tr><th>Group</th><th>Members</th><th>Recipients</th></tr></thead>
        <tbody>
          <tr v-for="group in book.groups" :key="group.name">
            <td><RouterLink :to="{ name: 'form', params: { kind: 'group', name: group.name } }">{{ group.title }}</RouterLink></td>
            <td data-label="Members">{{ group.members.join(', ') }}</td>
            <td data-label="Recipients">{{ group.recipients.length }}</td>
          </tr>
        </tbody>
      </table>
      <template v-if="book?.bounced.length">
        <h3>Suppressed and bouncing addresses</h3>
        <table class="list folds">
          <thead><tr><th>Address</th><th>Bounces</th><th>Answer of the server</th><td></td></tr></thead>
          <tbody>
            <tr v-for="one in book.bounced" :key="one.address">
              <td>{{ one.address }}<div v-if="one.suppressed_at" class="small aside">◆ suppressed {{ instant(one.suppressed_at) }}</div></td>
              <td class="whole" data-label="Bounces">{{ one.hard_bounces }} ×, last {{ instant(one.last_at) }}</td>
              <td class="small" data-label="Words">{{ one.words }}</td>
              <td><el-button size="small" @click="restore(one.address)">Send to it again</el-button></td>
            </tr>
          </tbody>
        </table>
      </template>
      <template v-if="book?.unsubscribes.length">
        <h3>Unsubscribes</h3>
        <table class="list folds">
          <thead><tr><th>Address</th><th>Report</th><th>When</th><td></td></tr></thead>
          <tbody>
            <tr v-for="one in book.unsubscribes" :key="one.report + one.address">
              <td>{{ one.address }}</td>
              <td data-label="Report">{{ one.report }}</td>
              <td class="whole" data-label="When">{{ instant(one.unsubscribed_at) }}</td>
              <td><el-button v-if="isAdministrator" size="small" @click="resubscribe(one.report, one.address)">Resubscribe</el-button></td>
            </tr>
          </tbody>
        </table>
      </template>
    </section>

    <section class="card stack scroll" aria-labelledby="notices">
      <h2 id="notices">Notices to owners</h2>
      <p v-if="notices && !notices.length" class="muted">Nothing went wrong lately.</p>
      <table v-else-if="notices" class="list folds">
        <thead><tr><th>Subject</th><th>What happened</th><th>Sent to</th></tr></thead>
        <tbody>
          <tr v-for="(notice, index) in notices.slice(0, 25)" :key="index">
            <td><StateMark v-bind="noticeWords(notice.kind)" /><div class="small">{{ notice.subject }}</div></td>
            <td><RouterLink v-if="notice.run" :to="{ name: 'run', params: { id: notice.run } }">{{ notice.text.split('\n')[0] }}</RouterLink><template v-else>{{ notice.text.split('\n')[0] }}</template></td>
            <td class="small">{{ notice.recipient?.replace('channel:', 'the channel ') ?? 'nobody: the report has no owner' }}<div class="muted">{{ notice.told_at ? instant(notice.told_at) : 'not sent yet' }}</div></td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
h2, h3, p { margin: 0; }
h3 { font-size: 1rem; margin-top: 0.4rem; }
.channels { list-style: none; margin: 0; padding: 0; display: grid; gap: 1rem; }
.channels > li { border-top: 1px solid var(--rule, #d5dde3); padding-top: 0.8rem; }
.channels > li:first-child { border-top: 0; padding-top: 0; }
.way { display: flex; justify-content: space-between; gap: 1rem; align-items: start; }
.way > .row { flex: none; }
.steps { margin: 0.7rem 0 0; padding: 0.7rem 0.9rem; list-style: none; display: grid; gap: 0.35rem; background: var(--ground, rgb(0 0 0 / 4%)); border-radius: 6px; }
.words { overflow-wrap: anywhere; }
.remedy { color: var(--warning); margin-left: 1.4rem; }
.waiting, .aside { color: var(--warning); }
</style>
