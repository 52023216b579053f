// A query put together by picking, written as the [query] table that keeps it.
import { formatOf } from '../dashboards/sources'

export interface Picked {
  table: string
  measures: { column: string; with: string }[]
  group: string[]
  time: string
  overTime: boolean
  filters: { column: string; is: string }[]
  top: number | null
}

const quoted = (text: string) => JSON.stringify(text)

export function written(source: string, picked: Picked): string {
  const seen = new Map<string, number>()
  const name = (one: { column: string; with: string }) => {
    const base = one.column === '*' ? 'rows' : picked.measures.filter((other) => other.column === one.column).length > 1 ? `${one.column}_${one.with}` : one.column
    const count = (seen.get(base) ?? 0) + 1
    seen.set(base, count)
    return count > 1 ? `${base}_${count}` : base
  }
  const measures = picked.measures.map((one) => `  { column = ${quoted(one.column)}, with = ${quoted(one.column === '*' ? 'count' : one.with)}, name = ${quoted(name(one))} },`)
  const lines = ['[query]', `source = ${quoted(source)}`, '', '[query.pick]', `table = ${quoted(picked.table)}`]
  if (picked.time) lines.push(`time = ${quoted(picked.time)}`)
  if (picked.time && picked.overTime) lines.push('over-time = true')
  lines.push('measure = [', ...measures, ']')
  if (picked.group.length) lines.push(`group = [${picked.group.map(quoted).join(', ')}]`)
  const filters = picked.filters.filter((one) => one.column && one.is.trim())
  if (filters.length) {
    const values = (text: string) => text.split(',').map((value) => quoted(value.trim())).join(', ')
    lines.push('filter = [', ...filters.map((one) => `  { column = ${quoted(one.column)}, is = [${values(one.is)}] },`), ']')
  }
  if (picked.top && !picked.overTime) lines.push(`top = ${picked.top}`)
  return lines.join('\n') + '\n'
}

/** A query to begin with, in the form that a kind of source understands. */
export function example(source: string, kind: string, entry?: string): string {
  const head = `[query]\nsource = ${quoted(source)}\n`
  switch (kind) {
    case 'postgresql':
    case 'mysql':
    case 'sqlite': {
      const table = entry ?? { postgresql: 'pg_stat_database', mysql: 'information_schema.tables', sqlite: 'sqlite_schema' }[kind]
      return `${head}sql = """\nselect *\nfrom ${table}\nlimit 50\n"""\n`
    }
    case 'open-metrics':
      return `${head}metric = ${quoted(entry ?? 'name_of_a_metric')}\n`
    case 'files':
      {
        const { format } = formatOf(entry ?? '')
        return `${head}file = ${quoted(entry ?? '*.csv')}\n${format ? `format = "${format}"\n` : ''}`
      }
    case 'local-checks':
      return `${head}check = ${quoted(entry ?? 'disk')}\ntargets = [${quoted({ tcp: '127.0.0.1:5432', http: 'http://127.0.0.1/', certificate: 'localhost:443', dns: 'localhost' }[entry ?? ''] ?? '/')}]\n`
    default:
      return `${head}path = "/"\nsend = { from = "{{ from }}", to = "{{ to }}" }\nrows = "$[*]"\nfield = [\n  { name = "value", path = "$", kind = "text" },\n]\n`
  }
}

/** The text of a dashboard with a query added, and a block that shows it. */
export function withBlock(dashboard: string, query: string, name: string, title: string): string {
  const body = query.replace(/^\s*\[query\]\s*\n/, '').replace(/\[\[query\./g, '[[query.').trimEnd()
  return `${dashboard.trimEnd()}\n\n[[query]]\nname = ${quoted(name)}\n${body}\n\n[[section]]\ntitle = ${quoted(title)}\n\n[[section.block]]\nshow = "table"\ntitle = ${quoted(title)}\nquery = ${quoted(name)}\n`
}
