// A report in one sentence, whose parts can be pressed to change them.
import type { ReportView } from '../api/client'
import type { Keys } from '../forms/field'
import { valueAt } from '../forms/fields'

export interface Part {
  text: string
  /** The part of the form that it opens, or the schedule; plain words open nothing. */
  opens?: string
  /** Something is still to be said here. */
  gap?: boolean
}

const list = (items: string[], last = 'and'): string => (items.length < 2 ? (items[0] ?? '') : `${items.slice(0, -1).join(', ')} ${last} ${items.at(-1)}`)
const lower = (text: string): string => text.replace(/^\p{Lu}(?=\p{Ll})/u, (letter) => letter.toLowerCase())

/** Who gets it: how many, or who it is if it is one. */
export function recipients(report: ReportView): string {
  const people = [...new Set(report.audiences.flatMap((audience) => audience.recipients))]
  const channels = [...new Set(report.audiences.flatMap((audience) => audience.channels))]
  const parts: string[] = []
  if (people.length === 1) parts.push(people[0]!.replace(/\s*<.*>$/, ''))
  else if (people.length) parts.push(`${people.length} recipients${report.audiences.length > 1 ? ` in ${report.audiences.length} audiences` : ''}`)
  if (report.audiences_from.length) parts.push('everybody whom a query names')
  if (channels.length) parts.push(`${channels.length === 1 ? 'the channel' : 'the channels'} ${list(channels)}`)
  return list(parts)
}

const WHEN: Record<string, string> = {
  always: 'always',
  warning: 'when something is a warning or worse',
  critical: 'when something is critical',
  rows: 'when certain queries have rows',
  figures: 'when certain figures are reached',
  change: 'when a figure has changed',
}

/** What will happen, part by part. `titles` are the dashboards' own words. */
export function sentence(report: ReportView, titles: string[], keys: Keys): Part[] {
  const parts: Part[] = []
  const say = (text: string) => parts.push({ text })
  const part = (text: string, opens: string, gap = false) => parts.push({ text, opens, gap })
  if (report.schedule) part(report.schedule, 'schedule')
  else part('On request only', 'schedule')
  say(`, ${report.time_zone}, `)
  part(lower(report.window), 'schedule')
  say(' of ')
  part(list(titles.length ? titles : report.dashboards) || 'what?', 'Content', !report.dashboards.length)
  say(' goes as ')
  part(list(report.formats.map((format) => format.toUpperCase())) || 'what?', 'Formats and look', !report.formats.length)
  say(' to ')
  const who = recipients(report)
  part(who || 'whom?', 'Who gets it', !who)
  say(', ')
  part(WHEN[String(valueAt(keys, 'send.when') ?? 'always')] ?? 'always', 'When it is worth sending')
  say(', ')
  const template = valueAt(keys, 'message.template')
  part(valueAt(keys, 'message.text') ? 'with a message of its own' : template ? `with “${String(template)}” as its message` : 'with the usual message', 'Message')
  const approval = valueAt(keys, 'approval.deadline')
  const readiness = valueAt(keys, 'readiness.source')
  if (approval !== undefined || keys.approval !== undefined) {
    say(', ')
    part('once somebody has approved it', 'Approval and readiness')
  }
  if (readiness !== undefined) {
    say(', ')
    part(`as soon as ${String(readiness)} is ready`, 'Approval and readiness')
  }
  say('.')
  return parts
}

/** What is not said in the sentence and can be: the words that open it. */
export function rest(keys: Keys): { text: string; opens: string }[] {
  const more = [{ text: 'what happens on failure', opens: 'What happens on failure' }]
  if (keys.approval === undefined && valueAt(keys, 'readiness.source') === undefined) more.unshift({ text: 'approval and readiness', opens: 'Approval and readiness' })
  return more
}

export const plain = (parts: Part[]): string => parts.map((part) => part.text).join('')
