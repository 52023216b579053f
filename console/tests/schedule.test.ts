import { describe, expect, it } from 'vitest'

import { readSchedule, readWindow, writeSchedule, writeWindow, type Keys } from '../src/parts/schedule'

const again = (keys: Keys) => writeSchedule(readSchedule(keys))
const window_ = (keys: Keys) => writeWindow(readWindow(keys))

describe('a schedule', () => {
  const schedules: Keys[] = [
    { every: 'day', at: '07:30' },
    { every: 'weekday', at: ['07:30', '12:00'] },
    { every: 'week', on: ['monday', 'friday'], at: '07:30' },
    { every: 'month', on: ['first monday', 'last'], at: '06:00' },
    { every: 'year', on: ['12-24'], at: '09:00', starts: '2026-01-01' },
    { every: 'P3D', at: '07:30', starts: '2026-12-01' },
    { every: 'P2W', on: ['tuesday'], at: '07:30', starts: '2026-12-01' },
    { every: 'PT15M' },
    { once: '2026-12-24T10:00' },
    { crontab: '30 7 * * 1-5', missed: 'all' },
    { rule: 'FREQ=DAILY', at: '07:30', starts: '2026-12-01', ends: '2026-12-31' },
    { every: 'day', at: '07:30', runs: 12, calendar: ['holidays', 'harbour'], 'on-calendar-day': 'next-working-day', grace: 'PT10M' },
  ]

  it.each(schedules)('%j is the same after its fields were read and written', (keys) => {
    expect(again(keys)).toEqual(keys)
  })

  it('of weeks without weekdays is one of days', () => {
    expect(again({ every: 'P2W', at: '07:30', starts: '2026-12-01' })).toEqual({ every: 'P14D', at: '07:30', starts: '2026-12-01' })
  })

  it('that is not there means on request, and stays away', () => {
    expect(readSchedule(null).often).toBe('request')
    expect(writeSchedule(readSchedule(null))).toBeNull()
  })

  it('hands over a number of runs that is none, so that the service says what is wrong', () => {
    expect(writeSchedule({ ...readSchedule({ every: 'day', at: '07:30' }), runs: 'ten' })).toMatchObject({ runs: 'ten' })
  })

  it('leaves out what is as usual', () => {
    expect(again({ every: 'day', at: '07:30', missed: 'latest', calendar: [] })).toEqual({ every: 'day', at: '07:30' })
  })
})

describe('a window', () => {
  const windows: Keys[] = [
    { previous: 'day' },
    { previous: 'week', count: 2, 'week-starts': 'sunday', compare: 'last-year' },
    { last: 'PT6H', lag: 'PT10M' },
    { 'to-date': 'month' },
    { interval: '2026-01-01/2026-02-01' },
    { previous: 'day', 'only-hours': ['08:00-12:00', '13:00-17:00'], 'only-days': 'weekday' },
    { previous: 'day', 'only-days': ['saturday', 'sunday'] },
  ]

  it.each(windows)('%j is the same after its fields were read and written', (keys) => {
    expect(window_(keys)).toEqual(keys)
  })

  it('has its days in the order of the week', () => {
    expect(window_({ previous: 'day', 'only-days': ['sunday', 'saturday'] })).toEqual({ previous: 'day', 'only-days': ['saturday', 'sunday'] })
  })
})
