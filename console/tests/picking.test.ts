import { describe, expect, it } from 'vitest'

import type { Keys } from '../src/dashboards/model'
import { addTable, example, keysOf, type Picked } from '../src/parts/picking'

const picked: Picked = { table: 'public.load', measures: [{ column: 'cpu', with: 'mean' }], group: [], time: 'at', overTime: false, filters: [], top: null }
const pick = (more: Partial<Picked>) => keysOf({ ...picked, ...more }).pick as Keys

describe('a query that was picked', () => {
  it('names its table, time and measures', () => {
    expect(keysOf(picked)).toEqual({ pick: { table: 'public.load', time: 'at', measure: [{ column: 'cpu', with: 'mean', name: 'cpu' }] } })
  })

  it('gives each measure a name of its own', () => {
    const found = pick({ measures: [{ column: 'cpu', with: 'mean' }, { column: 'cpu', with: 'p95' }, { column: '*', with: 'mean' }, { column: '*', with: 'count' }] })
    expect((found.measure as Keys[]).map((one) => one.name)).toEqual(['cpu_mean', 'cpu_p95', 'rows', 'rows_2'])
  })

  it('counts rows whatever was picked for them', () => {
    expect(pick({ measures: [{ column: '*', with: 'mean' }] }).measure).toEqual([{ column: '*', with: 'count', name: 'rows' }])
  })

  it('takes several values apart, and leaves out what is not filled in', () => {
    expect(pick({ filters: [{ column: 'role', is: 'db, it"s' }, { column: '', is: 'x' }, { column: 'port', is: ' ' }] }).filter).toEqual([{ column: 'role', is: ['db', 'it"s'] }])
    expect(pick({})).not.toHaveProperty('filter')
  })

  it('has no first rows over time', () => {
    expect(pick({ overTime: true, top: 5 })).not.toHaveProperty('top')
    expect(pick({ top: 5 }).top).toBe(5)
    expect(pick({ time: '', overTime: true })).not.toHaveProperty('over-time')
  })
})

describe('an example', () => {
  it.each([
    ['postgresql', 'sql'],
    ['mysql', 'sql'],
    ['sqlite', 'sql'],
    ['open-metrics', 'metric'],
    ['files', 'file'],
    ['local-checks', 'check'],
    ['ldap', 'search'],
    ['snmp', 'objects'],
    ['http-json', 'path'],
  ])('of %s asks the source in its own form', (kind, key) => {
    expect(Object.keys(example(kind))[0]).toBe(key)
  })

  it('of a file is in its format', () => {
    expect(example('files', 'jobs.jsonl')).toMatchObject({ file: 'jobs.jsonl', format: 'json-lines' })
    expect(example('files', 'works.ics')).toMatchObject({ format: 'icalendar' })
    expect(example('files', 'jobs.csv')).not.toHaveProperty('format')
  })

  it('of a service asks for the window', () => {
    expect(example('http-json')).toMatchObject({ path: '/', send: { from: '{{ from }}', to: '{{ to }}' } })
  })
})

describe('a table added to a dashboard', () => {
  it('comes with its query, behind all that was there', () => {
    const there = { dashboard: { name: 'd', title: 'D' }, query: [{ name: 'first', source: 's' }], section: [{ title: 'One', block: [] }] }
    const made = addTable(there, { source: 's', sql: 'select 1', name: 'query' }, 'rows', 'All rows')
    expect(made.query?.map((one) => one.name)).toEqual(['first', 'rows'])
    expect(made.section?.at(-1)).toEqual({ title: 'All rows', block: [{ show: 'table', title: 'All rows', query: 'rows' }] })
    expect(there.query.length).toBe(1)
  })
})
