import { describe, expect, it } from 'vitest'

import { fieldsOf, goingWords, policyOf, spanWords, type Going } from '../src/archive/keeping'

const going = (what: Going['what'], count: number): Going[] => Array.from({ length: count }, (_, i) => ({ run: String(i), report: 'daily', ended_at: '2026-01-01T00:00:00Z', what, why: 'age', bytes: 1000 }))

describe('how long things are kept', () => {
  it('reads like people say it', () => {
    expect(['P2Y', 'P1Y', 'P90D', 'P6W', 'P18M', 'P1Y6M', '3 years', ''].map(spanWords)).toEqual(['2 years', '1 year', '90 days', '6 weeks', '18 months', 'P1Y6M', '3 years', ''])
  })

  it('is for good where nothing is filled in', () => {
    expect(policyOf(fieldsOf({}))).toEqual({})
    const fields = fieldsOf({ documents: 'P2Y', most_runs: 12 })
    expect(fields.documents).toBe('2 years')
    expect(policyOf({ ...fields, at_least: ' 90 days ' })).toEqual({ documents: '2 years', at_least: '90 days', most_runs: 12 })
  })

  it('says what goes by what it is', () => {
    const list = (items: Going[], more = false) => ({ items, more, until: '2026-01-01T00:00:00Z', bytes: items.length * 1000 })
    expect(goingWords(list([]))).toBe('Nothing goes.')
    expect(goingWords(list(going('documents', 1)))).toMatch(/^documents of 1 run \(/)
    expect(goingWords(list([...going('documents', 2), ...going('record', 3)], true))).toMatch(/^documents of 2 runs, the records of 3 runs and more \(/)
  })
})
