import { describe, expect, it } from 'vitest'

import type { ReportView } from '../src/api/client'
import { fits, shown } from '../src/reports/list'

const report = (name: string, more: object = {}): ReportView => ({ name, title: name, audiences: [], audiences_from: [], dashboards: ['estate'], file: `reports/${name}.toml`, formats: ['pdf'], paused: false, schedule: 'Every day', time_zone: 'UTC', window: 'the previous day', ...more }) as unknown as ReportView
const ran = (state: string, created_at: string) => ({ last_run: { state, created_at, settled: state !== 'rendering' && state !== 'held', good: state === 'delivered' } })
const names = (found: ReportView[]) => found.map((one) => one.name)

describe('the list of reports', () => {
  const all = [
    report('host-10', { next: '2026-11-28T07:30:00Z', ...ran('delivered', '2026-11-27T07:30:00Z') }),
    report('host-2', { next: '2026-11-27T12:00:00Z', ...ran('failed', '2026-11-27T06:00:00Z'), owner: 'Ada' }),
    report('paused', { ...ran('held', '2026-11-26T09:00:00Z'), paused: true, next: '2026-11-27T11:00:00Z' }),
    report('asked', { schedule: null, ...ran('rendering', '2026-11-27T09:00:00Z') }),
  ]
  const view = (more: object) => ({ search: '', state: '', order: '', ...more })

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
