import { describe, expect, it } from 'vitest'

import type { ReportView } from '../src/api/client'
import { editorOf, filtered, KINDS, kindWords } from '../src/definitions/list'
import { reportFilterValues, reportOrderValues } from '../src/api/schema'
import { countWords, ORDERS, queryOf, STATES } from '../src/reports/list'
import { plain, recipients, rest, sentence } from '../src/reports/sentence'


describe('the list of reports', () => {
  const view = (more: object) => ({ search: '', state: '', order: '', tag: '', ...more })

  it('asks the service for what its address says', () => {
    expect(queryOf(view({}), 1, 50)).toEqual({ page: 1, size: 50 })
    expect(queryOf(view({ search: ' ada estate ', state: 'trouble', order: 'next', tag: 'night' }), 2, 50)).toEqual({ page: 2, size: 50, words: 'ada estate', state: 'trouble', order: 'next', tag: 'night' })
  })

  it('leaves out what an old bookmark says and nobody knows', () => {
    expect(queryOf(view({ state: 'asleep', order: 'colour' }), 1, 50)).toEqual({ page: 1, size: 50 })
  })

  it('has every state and order that the service knows', () => {
    expect(STATES.map((one) => one.value).filter(Boolean).sort()).toEqual([...reportFilterValues].sort())
    expect([...ORDERS.map((one) => one.value).filter(Boolean), 'title'].sort()).toEqual([...reportOrderValues].sort())
  })

  it('counts runs, and those that are still to come where there is an end', () => {
    expect([countWords({ run_count: 1, run_limit: null }), countWords({ run_count: 0, run_limit: 3 }), countWords({ run_count: 1000, run_limit: null })]).toEqual(['1 run', '0 of 3 runs', '1,000 runs'])
  })
})

describe('a report in one sentence', () => {
  const report = {
    name: 'daily', title: 'Daily', schedule: 'Every weekday at 07:45', time_zone: 'Atlantic/Faroe', window: 'The previous day', dashboards: ['estate'], formats: ['pdf', 'csv'],
    audiences: [{ name: 'Ports', recipients: ['Ann <a@orrin-sound.example>', 'b@orrin-sound.example'], channels: [], values: [] }, { name: 'Desk', recipients: ['b@orrin-sound.example'], channels: ['duty-chat'], values: [] }],
    audiences_from: [],
  } as unknown as ReportView

  it('says what will happen', () => {
    expect(plain(sentence(report, ['Estate overview'], {}))).toBe('Every weekday at 07:45, Atlantic/Faroe, the previous day of Estate overview goes as PDF and CSV to 2 recipients in 2 audiences and the channel duty-chat, always, with the usual message.')
    const keys = { send: { when: 'critical' }, message: { template: 'morning' }, approval: { deadline: 'P1D' }, readiness: { source: 'ops' } }
    expect(plain(sentence(report, [], keys))).toContain('of estate goes as')
    expect(plain(sentence(report, [], keys))).toMatch(/when something is critical, with “morning” as its message, once somebody has approved it, as soon as ops is ready\.$/)
    expect(rest(keys).map((one) => one.opens)).toEqual(['What happens on failure'])
    expect(rest({})).toHaveLength(2)
  })

  it('has gaps where something is still to be said', () => {
    const parts = sentence({ ...report, schedule: null, dashboards: [], formats: [], audiences: [] } as unknown as ReportView, [], {})
    expect(parts.filter((part) => part.gap).map((part) => [part.text, part.opens])).toEqual([['what?', 'Content'], ['what?', 'Formats and look'], ['whom?', 'Who gets it']])
    expect(plain(parts)).toMatch(/^On request only, /)
  })

  it('names one recipient, and says that a query names others', () => {
    const one = { ...report, audiences: [{ name: 'A', recipients: ['Ann B. <a@orrin-sound.example>'], channels: [], values: [] }] } as unknown as ReportView
    expect(recipients(one)).toBe('Ann B.')
    expect(recipients({ ...one, audiences_from: ['ops'] } as unknown as ReportView)).toBe('Ann B. and everybody whom a query names')
    expect(recipients({ ...one, audiences: [], audiences_from: [] } as unknown as ReportView)).toBe('')
  })
})

describe('all definitions', () => {
  const one = (kind: string, name: string, title: string) => ({ kind, name, title, file: `${kind}s/${name}.toml`, saved_at: '', saved_by: '' })
  const all = [one('theme', 'night', 'Night'), one('report', 'b', 'Daily 10'), one('report', 'a', 'Daily 2'), one('person', 'ann', 'Ann')]
  it('are found by kind and words, in an order that people expect', () => {
    expect(filtered(all, '', '').map((found) => found.title)).toEqual(['Daily 2', 'Daily 10', 'Ann', 'Night'])
    expect(filtered(all, 'theme', '')).toHaveLength(1)
    expect(filtered(all, '', 'daily toml 10').map((found) => found.name)).toEqual(['b'])
    expect(filtered(all, 'report', 'ann')).toEqual([])
  })
  it('lead to where they are changed', () => {
    expect(editorOf({ kind: 'dashboard', name: 'd' })).toEqual({ name: 'edit-dashboard', params: { name: 'd' } })
    expect(editorOf({ kind: 'theme', name: 't' })).toEqual({ name: 'form', params: { kind: 'theme', name: 't' } })
    expect(editorOf({ kind: 'calendar', name: 'c' })).toEqual({ name: 'definition', params: { kind: 'calendar', name: 'c' } })
    expect([kindWords('message-template'), kindWords('other')]).toEqual(['message template', 'other'])
    expect(new Set(KINDS.map((known) => known.kind)).size).toBe(KINDS.length)
  })
})
