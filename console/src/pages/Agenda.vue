<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import Subscribe from '../parts/Subscribe.vue'
import { useLoaded } from '../parts/load'
import { stateWords } from '../words'

const route = useRoute()
const router = useRouter()
const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const text = (value: unknown) => (typeof value === 'string' && value ? value : undefined)
const pad = (n: number) => String(n).padStart(2, '0')
const day = (date: Date) => `${date.getFullYear()}-${pad(date.getMonth() + 1)}-${pad(date.getDate())}`
const today = computed(() => new Intl.DateTimeFormat('en-CA', { timeZone: zone.value }).format(new Date()))

const zone = computed(() => text(route.query.time_zone) ?? own)
const report = computed(() => text(route.query.report))
const month = computed(() => (/^\d{4}-\d{2}$/.test(String(route.query.month)) ? String(route.query.month) : today.value.slice(0, 7)))
/** The Monday on or before the first of the month, and the Monday after its last. */
const span = computed(() => {
  const [year, number] = month.value.split('-').map(Number) as [number, number]
  const first = new Date(year, number - 1, 1)
  const from = new Date(year, number - 1, 1 - ((first.getDay() + 6) % 7))
  const last = new Date(year, number, 0)
  const to = new Date(year, number, 1 + ((7 - last.getDay()) % 7))
  return { from: day(from), to: day(to) }
})
const title = computed(() => new Intl.DateTimeFormat('en-GB', { month: 'long', year: 'numeric' }).format(new Date(`${month.value}-15T12:00:00`)))

const question = computed(() => ({ ...span.value, time_zone: zone.value, report: report.value }))
const { data, error, load } = useLoaded(() => take(api.GET('/agenda', { params: { query: question.value } })), 30000)
const reports = useLoaded(() => take(api.GET('/report-names')))
watch(question, load)
const zones = computed(() => [...new Set([own, ...(reports.data.value ?? []).map((one) => one.time_zone), 'UTC'])])
const open = ref<string | null>(null)
watch(month, () => (open.value = null))
const MOST = 4

function go(months: number) {
  const [year, number] = month.value.split('-').map(Number) as [number, number]
  const to = new Date(year, number - 1 + months, 1)
  choose({ month: `${to.getFullYear()}-${pad(to.getMonth() + 1)}` })
}
function choose(change: Record<string, string | undefined>) {
  void router.push({ query: { ...route.query, ...change } })
}
const weeks = computed(() => Array.from({ length: Math.ceil((data.value?.days.length ?? 0) / 7) }, (_, week) => data.value!.days.slice(week * 7, week * 7 + 7)))
/** On a narrow screen, where each day has a line of its own, days of other months and empty ones have none. */
const isPassedOver = (one: Schemas['AgendaDay']) => !one.date.startsWith(month.value) || !one.entries.length
const time = (at: string) => new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone.value }).format(new Date(at))
const when = (entry: Schemas['AgendaEntry']) =>
  entry.count === 1 ? time(entry.first) : entry.count === 2 ? `${time(entry.first)}, ${time(entry.last)}` : `${entry.count} ×`
const isBusy = (entry: Schemas['AgendaEntry']) => entry.count > 2 && !['critical', 'warning'].includes(stateWords(entry.state).tone)
/** What needs a look stands first, then what happens once, then what happens all day long. */
const sorted = (entries: Schemas['AgendaEntry'][]) => [...entries].sort((one, other) => Number(isBusy(one)) - Number(isBusy(other)))
const hint = (entry: Schemas['AgendaEntry']) =>
  [`${entry.title}: ${stateWords(entry.state).word}`, entry.count > 1 ? `${entry.count} times from ${time(entry.first)} to ${time(entry.last)}` : time(entry.first), entry.note].filter(Boolean).join('. ')
const full = (date: string) => new Intl.DateTimeFormat('en-GB', { weekday: 'long', day: 'numeric', month: 'long' }).format(new Date(`${date}T12:00:00`))
const target = (entry: Schemas['AgendaEntry']) =>
  entry.run && entry.count === 1 ? { name: 'run', params: { id: entry.run } } : entry.run ? { name: 'runs', query: { report: entry.report, state: entry.state } } : { name: 'report', params: { name: entry.report } }
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <div class="row">
        <h1>{{ title }}</h1>
        <el-button-group>
          <el-button aria-label="The month before" @click="go(-1)">‹</el-button>
          <el-button @click="choose({ month: undefined })">Today</el-button>
          <el-button aria-label="The month after" @click="go(1)">›</el-button>
        </el-button-group>
      </div>
      <div class="row">
        <el-select :model-value="report" placeholder="Every report" clearable aria-label="Report" style="width: 15rem" @change="(report?: string) => choose({ report })">
          <el-option v-for="one in reports.data.value ?? []" :key="one.name" :value="one.name" :label="one.title" />
        </el-select>
        <el-select :model-value="zone" aria-label="Time zone of the days" style="width: 12rem" @change="(zone: string) => choose({ time_zone: zone })">
          <el-option v-for="one in zones" :key="one" :value="one" :label="one === own ? `${one} (yours)` : one" />
        </el-select>
        <Subscribe />
      </div>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <p v-if="data && data.days.every(isPassedOver)" class="card muted nowhere">Nothing is due and nothing ran in {{ title }}.</p>
      <div v-if="data" class="card month" :class="{ nothing: data.days.every(isPassedOver) }" role="table" :aria-label="`What is due and what ran in ${title}`">
        <div class="week names" role="row"><span v-for="name in ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']" :key="name" role="columnheader">{{ name }}</span></div>
        <div v-for="week in weeks" :key="week[0]?.date" class="week" :class="{ nothing: week.every(isPassedOver) }" role="row">
          <div v-for="one in week" :key="one.date" role="cell" class="day" :class="{ other: !one.date.startsWith(month), now: one.date === today, nothing: isPassedOver(one) }">
            <div class="date"><span class="number" :aria-label="full(one.date)">{{ Number(one.date.slice(8)) }}</span><span class="long">{{ full(one.date) }}</span><span v-if="one.named.length" class="named" :title="one.named.join(', ')">{{ one.named.join(', ') }}</span></div>
            <ul>
              <li v-for="(entry, index) in open === one.date ? sorted(one.entries) : sorted(one.entries).slice(0, MOST)" :key="index" :class="[stateWords(entry.state).tone, { left: entry.state === 'left-out' }]">
                <RouterLink :to="target(entry)" :title="hint(entry)">
                  <span class="mark" :aria-label="stateWords(entry.state).word">{{ stateWords(entry.state).mark }}</span>
                  <span class="what"><span v-if="entry.status === 'critical'" class="alarm" role="img" aria-label="Its content is critical">◆</span> <span class="time">{{ when(entry) }}</span> {{ entry.title }}<span v-if="entry.note" class="note"> {{ entry.note }}</span></span>
                </RouterLink>
              </li>
            </ul>
            <button v-if="one.entries.length > MOST" type="button" class="more" @click="open = open === one.date ? null : one.date">{{ open === one.date ? 'Fewer' : `${one.entries.length - MOST} more` }}</button>
          </div>
        </div>
      </div>
      <p class="small muted key">
        <span v-for="state in ['planned', 'delivered', 'held', 'failed', 'skipped', 'left-out']" :key="state" :class="stateWords(state).tone"><span aria-hidden="true">{{ stateWords(state).mark }}</span> {{ stateWords(state).word }}</span>
        <span><span class="ok" aria-hidden="true">●</span> <span class="alarm" aria-hidden="true">◆</span> Delivered, its content critical</span>
        Days and times of {{ data?.time_zone }}.
      </p>
    </Loading>
  </div>
</template>

<style scoped>
.month { padding: 0; overflow: hidden; }
.week { display: grid; grid-template-columns: repeat(7, minmax(0, 1fr)); }
.names { background: var(--ground); font-size: 0.8rem; font-weight: 600; color: var(--muted); }
.names span { padding: 0.35rem 0.6rem; }
.day { border-top: 1px solid var(--line); border-left: 1px solid var(--line); min-height: 5.9rem; padding: 0.35rem 0.4rem; min-width: 0; }
.day:first-child { border-left: 0; }
.day.other { background: var(--ground); }
.day.other { background: var(--ground); }
.date { font-size: 0.8rem; color: var(--muted); }
.number { display: inline-block; min-width: 1.6em; text-align: center; }
.long, .nowhere { display: none; }
.named { margin-left: 0.35em; color: var(--warning); font-weight: 600; }
.date { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.day.now .number { background: var(--sea); color: var(--paper); border-radius: 1em; font-weight: 600; }
ul { list-style: none; margin: 0.15rem 0 0; padding: 0; display: grid; gap: 0.1rem; }
li a { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 0.35em; text-decoration: none; color: var(--ink); font-size: 0.78rem; line-height: 1.35; }
li a:hover .what { text-decoration: underline; }
.what { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.time { font-weight: 600; }
.alarm { color: var(--critical); }
.left .what { text-decoration: line-through; }
.note { color: var(--muted); }
.ok .mark, .key .ok { color: var(--ok); }
.warning .mark, .key .warning { color: var(--warning); }
.critical .mark, .key .critical { color: var(--critical); }
.running .mark, .key .running { color: var(--running); }
.quiet .mark { color: var(--muted); }
.more { background: none; border: 0; padding: 0.1rem 0.3rem; color: var(--sea); cursor: pointer; font-size: 0.78rem; }
.key { display: flex; gap: 0.3rem 1.1rem; flex-wrap: wrap; margin: 0; }
@media (max-width: 760px) {
  .names { display: none; }
  .week { grid-template-columns: minmax(0, 1fr); }
  .day { border-left: 0; min-height: 0; padding: 0.6rem 0.9rem; }
  .nothing { display: none; }
  .nowhere { display: block; }
  .number { display: none; }
  .long { display: inline; font-weight: 600; color: var(--ink); }
  .day.now .long::after { content: ' · today'; color: var(--sea); }
  li a { font-size: 0.9rem; padding: 0.15rem 0; }
  .what { white-space: normal; }
}
</style>
