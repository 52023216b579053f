import { describe, expect, it } from 'vitest'

import { example, withBlock, written, type Picked } from '../src/parts/picking'

const picked: Picked = { table: 'public.load', measures: [{ column: 'cpu', with: 'mean' }], group: [], time: 'at', overTime: false, filters: [], top: null }

describe('a query that was picked', () => {
  it('names its source, table, time and measures', () => {
    expect(written('operations', picked)).toBe(
      '[query]\nsource = "operations"\n\n[query.pick]\ntable = "public.load"\ntime = "at"\nmeasure = [\n  { column = "cpu", with = "mean", name = "cpu" },\n]\n',
    )
  })

  it('gives each measure a name of its own', () => {
    const text = written('operations', { ...picked, measures: [{ column: 'cpu', with: 'mean' }, { column: 'cpu', with: 'p95' }, { column: '*', with: 'mean' }, { column: '*', with: 'count' }] })
    expect([...text.matchAll(/name = "([^"]*)"/g)].map((found) => found[1])).toEqual(['cpu_mean', 'cpu_p95', 'rows', 'rows_2'])
  })

  it('counts rows whatever was picked for them', () => {
    expect(written('operations', { ...picked, measures: [{ column: '*', with: 'mean' }] })).toContain('{ column = "*", with = "count", name = "rows" }')
  })

  it('puts quotation marks in values where they cannot end the text', () => {
    expect(written('operations', { ...picked, filters: [{ column: 'role', is: 'db, it"s' }, { column: '', is: 'x' }] })).toContain('is = ["db", "it\\"s"]')
  })

  it('has no first rows over time', () => {
    expect(written('operations', { ...picked, overTime: true, top: 5 })).not.toContain('top')
    expect(written('operations', { ...picked, top: 5 })).toContain('top = 5')
  })
})

describe('an example', () => {
  it.each(['postgresql', 'mysql', 'sqlite', 'open-metrics', 'files', 'local-checks', 'http-json'])('of %s asks the source in its own form', (kind) => {
    expect(example('here', kind)).toMatch(/^\[query\]\nsource = "here"\n\w+ = /)
  })

  it('of JSON Lines says so', () => {
    expect(example('here', 'files', 'jobs.jsonl')).toContain('format = "json-lines"')
    expect(example('here', 'files', 'works.ics')).toContain('format = "icalendar"')
    expect(example('here', 'files', 'jobs.csv')).not.toContain('format')
    expect(example('here', 'files', 'jobs.csv')).not.toContain('format')
  })
})

describe('a block added to a dashboard', () => {
  it('comes with its query, behind all that was there', () => {
    const text = withBlock('[dashboard]\nname = "d"\n', '[query]\nsource = "s"\nsql = "select 1"\n\n[[query.column]]\nname = "a"\n', 'rows', 'All rows')
    expect(text.startsWith('[dashboard]\nname = "d"\n\n[[query]]\nname = "rows"\nsource = "s"')).toBe(true)
    expect(text).toContain('[[section.block]]\nshow = "table"\ntitle = "All rows"\nquery = "rows"\n')
  })
})
