// A query to begin with, for what a source's catalogue has.
import type { Schemas } from '../api/client'
import type { Keys } from './model'
import { AGGREGATIONS } from './steps'

type Entry = Schemas['CatalogueEntry']
type Item = Schemas['CatalogueItem']

export const isNumeric = (item: Item): boolean => /int|numeric|real|double|float|decimal|number/.test(item.kind)
export const isTimely = (item: Item): boolean => /timestamp|date|instant/.test(item.kind)
const isKey = (item: Item): boolean => /(^|_)id$/.test(item.name)

/** Checks that tell of the service's machine itself, and need no targets. */
export const OF_THIS_MACHINE = ['processor', 'memory', 'load', 'network', 'units', 'journal']

/** What is asked first of something that was chosen: a sensible measure over time or by a name. */
export function begin(kind: string, entry: Entry): Keys {
  switch (kind) {
    case 'postgresql':
    case 'mysql':
    case 'sqlite': {
      const time = entry.items.find(isTimely)?.name
      const measure = entry.items.find((item) => isNumeric(item) && !isKey(item))
      const name = entry.items.find((item) => !isNumeric(item) && !isTimely(item) && !/bool/.test(item.kind))?.name
      const measures = measure ? [{ column: measure.name, with: 'mean', name: measure.name }] : [{ column: '*', with: 'count', name: 'rows' }]
      return { pick: { table: entry.name, measure: measures, ...(time ? { time, 'over-time': true } : name ? { group: [name], top: 10 } : {}) } }
    }
    case 'open-metrics':
      return { metric: entry.name }
    case 'files':
    case 'sftp':
      return { file: entry.name, ...formatOf(entry.name) }
    case 'program':
      return { output: 'csv' }
    case 'ldap':
      return { search: `(objectClass=${entry.name})` }
    case 'snmp': {
      const objects = entry.items.length ? entry.items.map((item) => item.name).slice(0, 8) : [entry.name]
      return { objects, operation: entry.kind === 'table' ? 'table' : 'get' }
    }
    case 'local-checks': {
      if (OF_THIS_MACHINE.includes(entry.name)) return { check: entry.name }
      const target: Record<string, string> = { tcp: '127.0.0.1:22', http: 'http://127.0.0.1/', certificate: 'localhost:443', dns: 'localhost', disk: '/' }
      return { check: entry.name, targets: [target[entry.name] ?? '/'] }
    }
    default:
      return { path: entry.name.startsWith('/') ? entry.name : '/', rows: '$[*]', field: [{ name: 'value', path: '$', kind: 'text' }] }
  }
}

/** How a measure of a source can be worked out: percentiles are PostgreSQL's alone. */
export function measuresOf(kind: string): { value: string; label: string }[] {
  const all = [...AGGREGATIONS.filter((one) => one.value !== 'last'), { value: 'p99', label: '99th percentile' }]
  return kind === 'postgresql' ? all : all.filter((one) => !/median|^p\d/.test(one.value))
}

/** The ways in which a pick's filter tests a column. */
export const TESTS = [
  { value: 'is', label: 'is one of' },
  { value: 'is-not', label: 'is none of' },
  { value: 'contains', label: 'contains' },
  { value: 'at-least', label: 'is at least' },
  { value: 'at-most', label: 'is at most' },
  { value: 'between', label: 'is between' },
  { value: 'parameter', label: 'is the parameter' },
]
export const testOf = (filter: Keys): string => ('at-least' in filter && 'at-most' in filter ? 'between' : (TESTS.find((test) => test.value in filter)?.value ?? 'is'))

/** A filter with another test; what it was compared with stays where it can. */
export function withTest(filter: Keys, test: string): Keys {
  const column = filter.column
  const old = filter.is ?? filter['is-not'] ?? filter.contains ?? filter['at-least'] ?? filter['at-most']
  const list = Array.isArray(old) ? old : old === undefined ? [] : [String(old)]
  const number = Number(Array.isArray(old) ? old[0] : old)
  const plain = Number.isFinite(number) ? number : 0
  switch (test) {
    case 'is':
    case 'is-not':
      return { column, [test]: list }
    case 'contains':
      return { column, contains: String(list[0] ?? '') }
    case 'between':
      return { column, 'at-least': plain, 'at-most': plain }
    case 'parameter':
      return { column, parameter: '' }
    default:
      return { column, [test]: plain }
  }
}

/** The name of a measure's column: the column's own, with how it is worked out where two share it. */
export function measureNames(measures: Keys[]): void {
  const seen: string[] = []
  for (const one of measures) {
    const column = one.column === '*' ? 'rows' : String(one.column)
    const twice = measures.filter((other) => other.column === one.column).length > 1 && one.column !== '*'
    const base = twice ? `${column}_${String(one.with ?? 'mean')}` : column
    let name = base
    for (let number = 2; seen.includes(name); number += 1) name = `${base}_${number}`
    seen.push(name)
    one.name = name
  }
}

/** What is in a file, by the end of its name; nothing is said of CSV. */
export function formatOf(file: string): { format?: string } {
  if (/\.(jsonl|ndjson)(\.gz)?$/i.test(file)) return { format: 'json-lines' }
  if (/\.json(\.gz)?$/i.test(file)) return { format: 'json' }
  if (/\.(log|txt)(\.gz)?$/i.test(file)) return { format: 'lines' }
  if (/\.(ics|ical)$/i.test(file)) return { format: 'icalendar' }
  if (/\.(xlsx|xlsm|xlsb|xls|ods)$/i.test(file)) return { format: 'workbook' }
  if (/\.parquet$/i.test(file)) return { format: 'parquet' }
  return {}
}
