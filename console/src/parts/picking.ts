// A query that was put together by picking, as the keys that keep it.
import { begin, DATABASES, USUAL } from '../forms/sources'
import type { Dashboard, Keys } from '../dashboards/model'

export interface Picked {
  table: string
  measures: { column: string; with: string }[]
  group: string[]
  time: string
  overTime: boolean
  filters: { column: string; is: string }[]
  top: number | null
}

export function keysOf(picked: Picked): Keys {
  const seen = new Map<string, number>()
  const name = (one: { column: string; with: string }) => {
    const base = one.column === '*' ? 'rows' : picked.measures.filter((other) => other.column === one.column).length > 1 ? `${one.column}_${one.with}` : one.column
    const count = (seen.get(base) ?? 0) + 1
    seen.set(base, count)
    return count > 1 ? `${base}_${count}` : base
  }
  const filters = picked.filters.filter((one) => one.column && one.is.trim())
  return {
    pick: {
      table: picked.table,
      ...(picked.time ? { time: picked.time } : {}),
      ...(picked.time && picked.overTime ? { 'over-time': true } : {}),
      measure: picked.measures.map((one) => ({ column: one.column, with: one.column === '*' ? 'count' : one.with, name: name(one) })),
      ...(picked.group.length ? { group: [...picked.group] } : {}),
      ...(filters.length ? { filter: filters.map((one) => ({ column: one.column, is: one.is.split(',').map((value) => value.trim()) })) } : {}),
      ...(picked.top && !picked.overTime ? { top: picked.top } : {}),
    },
  }
}

/** What is asked first, of what somebody chose or of what every source of a kind has. */
export function example(kind: string, entry?: string): Keys {
  const name = entry ?? USUAL[kind] ?? '/'
  if (DATABASES.includes(kind)) return { sql: `select *\nfrom ${name}\nlimit 50\n` }
  const keys = begin(kind, { name, kind: '', unit: '', description: '', items: [] })
  return kind === 'http-json' ? { ...keys, send: { from: '{{ from }}', to: '{{ to }}' } } : keys
}

/** Adds a query to a dashboard, with a section of its own that shows it. */
export function addTable(dashboard: Dashboard, query: Keys, name: string, title: string): Dashboard {
  return {
    ...dashboard,
    query: [...(dashboard.query ?? []), { ...query, name }],
    section: [...(dashboard.section ?? []), { title, block: [{ show: 'table', title, query: name }] }],
  }
}
