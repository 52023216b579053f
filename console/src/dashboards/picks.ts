// What is picked of a table: measures, and filters with their tests.
import type { Schemas } from '../api/client'
import type { Keys } from './model'
import { AGGREGATIONS } from './steps'

type Item = Schemas['CatalogueItem']

export const isNumeric = (item: Item): boolean => /int|numeric|real|double|float|decimal|number/.test(item.kind)
export const isTimely = (item: Item): boolean => /timestamp|date|instant/.test(item.kind)
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
