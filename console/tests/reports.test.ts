import { describe, expect, it } from 'vitest'

import type { ReportView } from '../src/api/client'
import { editorOf, filtered, KINDS, kindWords } from '../src/definitions/list'
import { fits, shown, tagsOf } from '../src/reports/list'
import { plain, recipients, rest, sentence } from '../src/reports/sentence'

const report = (name: string, more: object = {}): ReportView => ({ name, title: name, audiences: [], audiences_from: [], tags: [], dashboards: ['estate'], file: `reports/${name}.toml`, formats: ['pdf'], paused: false, schedule: 'Every day', time_zone: 'UTC', window: 'the previous day', ...more }) as unknown as ReportView
const ran = (state: string, created_at: string) => ({ last_run: { state, created_at, settled: state !== 'rendering' && state !== 'held', good: state === 'delivered' } })
const names = (found: ReportView[]) => found.map((one) => one.name)

describe('the list of reports', () => {
  const all = [
    report('host-10', { next: '2026-11-28T07:30:00Z', ...ran('delivered', '2026-11-27T07:30:00Z') }),
    report('host-2', { next: '2026-11-27T12:00:00Z', ...ran('failed', '2026-11-27T06:00:00Z'), owner: 'Ada' }),
    report('paused', { ...ran('held', '2026-11-26T09:00:00Z'), paused: true, next: '2026-11-27T11:00:00Z' }),
    report('asked', { schedule: null, ...ran('rendering', '2026-11-27T09:00:00Z') }),
  ]
  const view = (more: object) => ({ search: '', state: '', order: '', tag: '', ...more })

  it('is in the order of titles as people sort them', () => {
    expect(names(shown(all, view({})))).toEqual(['asked', 'host-2', 'host-10', 'paused'])
  })

  it('is in the order of runs, with those that have none at the end', () => {
    expect(names(shown(all, view({ order: 'next' })))).toEqual(['host-2', 'host-10', 'asked', 'paused'])
    expect(names(shown(all, view({ order: 'last' })))).toEqual(['asked', 'host-10', 'host-2', 'paused'])
  })

  it('is searched by every word in what a report says of itself', () => {
    expect(names(shown(all, view({ search: 'ADA estate' })))).toEqual(['host-2'])
    expect(names(shown(all, view({ search: 'ada nobody' })))).toEqual([])
  })

  it('shows the reports of a state', () => {
    const of = (state: string) => names(all.filter((one) => fits(one, state)))
    expect(of('scheduled')).toEqual(['host-10', 'host-2'])
    expect(of('paused')).toEqual(['paused'])
    expect(of('request')).toEqual(['asked'])
    expect(of('trouble'), 'what is under way is none').toEqual(['host-2', 'paused'])
    expect(fits(report('new'), 'never') && !fits(report('new'), 'trouble')).toBe(true)
    expect(of('never')).toEqual([])
    expect(of('anything')).toHaveLength(4)
  })

  it('leaves the list that it was given as it was', () => {
    const before = names(all)
    shown(all, view({ order: 'next' }))
    expect(names(all)).toEqual(before)
  })
})

describe('tags', () => {
  it('narrow the list, and are found by search, too', () => {
    const all = [report('a', { tags: ['night', 'estate 10'] }), report('b', { tags: ['estate 2'] }), report('c')]
    const view = (more: object) => ({ search: '', state: '', order: '', tag: '', ...more })
    expect(tagsOf(all)).toEqual(['estate 2', 'estate 10', 'night'])
    expect(names(shown(all, view({ tag: 'night' })))).toEqual(['a'])
    expect(names(shown(all, view({ search: 'estate 2' })))).toContain('b')
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
