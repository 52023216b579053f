// How times, sizes and states read.

import type { Schemas } from './api/client'

/** An instant in a named zone, or in the reader's own. */
export function instant(text: string | null | undefined, zone?: string, toTheSecond = false): string {
  if (!text) return '–'
  return new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: toTheSecond ? '2-digit' : undefined, timeZone: zone }).format(new Date(text))
}

/** How long until or since an instant: "in 3 hours", "2 minutes ago". */
export function away(text: string, now: number): string {
  const seconds = Math.round((new Date(text).getTime() - now) / 1000)
  const words = new Intl.RelativeTimeFormat('en', { numeric: 'auto' })
  const size = Math.abs(seconds)
  if (size < 60) return words.format(seconds, 'second')
  if (size < 3600) return words.format(Math.round(seconds / 60), 'minute')
  if (size < 172800) return words.format(Math.round(seconds / 3600), 'hour')
  return words.format(Math.round(seconds / 86400), 'day')
}

export function took(from: string | null | undefined, to: string | null | undefined): string {
  if (!from || !to) return '–'
  const milliseconds = new Date(to).getTime() - new Date(from).getTime()
  return milliseconds < 10000 ? `${milliseconds} ms` : `${(milliseconds / 1000).toFixed(1)} s`
}

export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`
  if (bytes < 1048576) return `${(bytes / 1024).toFixed(1)} KiB`
  return `${(bytes / 1048576).toFixed(1)} MiB`
}

/** Which rules of time zones are in use, and that they are old if they are. */
export function rulesInWords(rules: Schemas['ZoneRulesView']): string {
  const whose = rules.bundled ? "the program's own" : "the system's"
  const old = rules.old ? '; older than a year, update the package tzdata of the machine' : ''
  return `Time zone rules ${rules.version}, ${whose}${old}`
}

export interface StateWords {
  mark: string
  word: string
  tone: 'ok' | 'warning' | 'critical' | 'running' | 'quiet'
}

/** Every state that is shown: of runs, their steps, deliveries, attempts and planned instants. */
export type State = Schemas['RunState'] | Schemas['StepState'] | Schemas['DeliveryState'] | Schemas['AttemptOutcome'] | Schemas['PlanState']

const STATES: Record<State, StateWords> = {
  delivered: { mark: '●', word: 'Delivered', tone: 'ok' },
  completed: { mark: '●', word: 'Completed', tone: 'ok' },
  done: { mark: '●', word: 'Done', tone: 'ok' },
  accepted: { mark: '●', word: 'Accepted', tone: 'ok' },
  'partly-delivered': { mark: '▲', word: 'Partly delivered', tone: 'warning' },
  held: { mark: '▲', word: 'Held', tone: 'warning' },
  postponed: { mark: '▲', word: 'Postponed', tone: 'warning' },
  unknown: { mark: '▲', word: 'Unknown', tone: 'warning' },
  failed: { mark: '◆', word: 'Failed', tone: 'critical' },
  refused: { mark: '◆', word: 'Refused', tone: 'critical' },
  bounced: { mark: '◆', word: 'Bounced', tone: 'critical' },
  due: { mark: '○', word: 'Due', tone: 'running' },
  waiting: { mark: '○', word: 'Waiting', tone: 'running' },
  collecting: { mark: '○', word: 'Collecting', tone: 'running' },
  rendering: { mark: '○', word: 'Rendering', tone: 'running' },
  'awaiting-approval': { mark: '▲', word: 'Awaiting approval', tone: 'warning' },
  releasing: { mark: '○', word: 'Releasing', tone: 'running' },
  delivering: { mark: '○', word: 'Delivering', tone: 'running' },
  running: { mark: '○', word: 'Running', tone: 'running' },
  cancelled: { mark: '‖', word: 'Cancelled', tone: 'quiet' },
  skipped: { mark: '‖', word: 'Skipped', tone: 'quiet' },
  quiet: { mark: '‖', word: 'Quiet', tone: 'quiet' },
  planned: { mark: '○', word: 'Planned', tone: 'quiet' },
  'left-out': { mark: '‖', word: 'Left out', tone: 'quiet' },
  paused: { mark: '‖', word: 'Paused', tone: 'quiet' },
}

/** What a notice tells, in a word or two. */
export function noticeWords(kind: Schemas['NoticeKind']): { state: State; word: string } {
  switch (kind) {
    case 'recovered':
      return { state: 'done', word: 'Well again' }
    case 'source-up':
      return { state: 'done', word: 'Source is back' }
    case 'still-quiet':
      return { state: 'done', word: 'Still quiet' }
    case 'failed':
      return { state: 'failed', word: 'Failed' }
    case 'suppressed':
      return { state: 'failed', word: 'Suppressed' }
    case 'source-down':
      return { state: 'failed', word: 'Source is down' }
    case 'held':
      return { state: 'held', word: 'Held' }
    case 'late':
      return { state: 'held', word: 'Late' }
    case 'partly-delivered':
      return { state: 'held', word: 'Partly delivered' }
    case 'awaiting-approval':
      return { state: 'held', word: 'Awaiting approval' }
  }
}

export function stateWords(state: State): StateWords {
  return STATES[state]
}

/** How far a run has come, in percent, for a bar that shows that something happens. */
export function progress(state: Schemas['RunState'], stepsDone: number): number {
  switch (state) {
    case 'due':
    case 'waiting':
      return 3
    case 'collecting':
      return Math.min(60, 12 + stepsDone * 3)
    case 'rendering':
      return 62
    case 'releasing':
    case 'delivering':
      return 78
    case 'awaiting-approval':
    case 'delivered':
    case 'partly-delivered':
    case 'completed':
    case 'quiet':
    case 'held':
    case 'failed':
    case 'cancelled':
    case 'skipped':
      return 100
  }
}

/** The page that lists definitions of a kind. */
export function listOf(kind: string): { name: string; title: string } {
  const lists: Record<string, { name: string; title: string }> = {
    dashboard: { name: 'dashboards', title: 'Dashboards' },
    source: { name: 'sources', title: 'Sources' },
    sampler: { name: 'sources', title: 'Sources' },
    calendar: { name: 'definitions', title: 'Definitions' },
    theme: { name: 'definitions', title: 'Definitions' },
    template: { name: 'definitions', title: 'Definitions' },
    channel: { name: 'delivery', title: 'Delivery' },
    person: { name: 'delivery', title: 'Delivery' },
    group: { name: 'delivery', title: 'Delivery' },
    'message-template': { name: 'delivery', title: 'Delivery' },
  }
  return lists[kind] ?? { name: 'reports', title: 'Reports' }
}

/** Values of parameters as they are typed, `port=havnes; least=3; hosts=a, b`: numbers as numbers, lists as lists. */
export function typedValues(text: string): Record<string, string | number | string[]> {
  const typed = (value: string) => (/^-?(0|[1-9]\d*)(\.\d+)?$/.test(value) ? Number(value) : value.includes(',') ? value.split(',').map((item) => item.trim()) : value)
  const pairs = text.split(/[\n;]/).map((pair) => pair.split('=')).filter((pair) => pair.length > 1)
  return Object.fromEntries(pairs.map(([key, ...rest]) => [key!.trim(), typed(rest.join('=').trim())]))
}

/** Who gets a mail of a report, to be read before anybody does: `12 people in 3 audiences (Havnes, Skarvoy, Management)`. */
export function whoGets(report: { audiences: { name: string; recipients: string[]; channels: string[] }[]; audiences_from: string[] }): string {
  const people = new Set(report.audiences.flatMap((audience) => audience.recipients))
  const channels = new Set(report.audiences.flatMap((audience) => audience.channels))
  const names = report.audiences.map((audience) => audience.name)
  const parts: string[] = []
  if (people.size) parts.push(`${people.size === 1 ? '1 recipient' : `${people.size} recipients`} in ${names.length === 1 ? 'one audience' : `${names.length} audiences`} (${names.slice(0, 8).join(', ')}${names.length > 8 ? ' …' : ''})`)
  if (channels.size) parts.push(`${channels.size === 1 ? 'the channel' : 'the channels'} ${[...channels].join(', ')}`)
  if (report.audiences_from.length) parts.push(`everybody whom a query of ${report.audiences_from.join(', ')} names when it runs`)
  return parts.join(' and to ') || 'nobody: it has no audiences'
}

/** With what a definition was saved. */
export function savedFrom(from: Schemas['SavedFrom']): string {
  const words: Record<Schemas['SavedFrom'], string> = { console: 'in the console', 'command-line': 'with the command line', api: 'through the API', before: 'before versions were kept' }
  return words[from]
}

/** What a unified diff comes to: `2 lines added, 1 removed`. */
export function lineCounts(diff: string): string {
  const count = (sign: string) => diff.split('\n').filter((line) => line.startsWith(sign)).length
  const [added, removed] = [count('+'), count('-')]
  const lines = (n: number) => `${n} ${n === 1 ? 'line' : 'lines'}`
  if (added && removed) return `${lines(added)} added, ${removed} removed`
  return added ? `${lines(added)} added` : removed ? `${lines(removed)} removed` : 'no line changed'
}

/** The formats of files that sources read. */
export const FILE_FORMATS = [
  { value: 'csv', label: 'CSV' },
  { value: 'json-lines', label: 'JSON Lines' },
  { value: 'json', label: 'JSON' },
  { value: 'lines', label: 'Lines of text' },
  { value: 'icalendar', label: 'iCalendar' },
  { value: 'workbook', label: 'Workbook of a spreadsheet' },
  { value: 'parquet', label: 'Parquet' },
]
