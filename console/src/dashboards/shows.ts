// What a block can show, what each needs of the rows, and which kinds suit the rows there are.
import type { Schemas } from '../api/client'
import type { Block } from './model'

export type Column = Schemas['AnswerColumn']

export interface Wanted {
  key: string
  label: string
  of: 'time' | 'number' | 'any'
  /** Words to choose from, instead of columns. */
  choices?: { value: string; label: string }[]
  many?: boolean
  needed?: boolean
}
export interface Shown {
  show: string
  label: string
  columns: Wanted[]
}

const number: Wanted = { key: 'value', label: 'Values', of: 'number', needed: true }
const time: Wanted = { key: 'time', label: 'Time', of: 'time', needed: true }
const label: Wanted = { key: 'label', label: 'Names', of: 'any', needed: true }
const series = (what: string): Wanted => ({ key: 'series', label: what, of: 'any' })
const lines: Wanted[] = [time, { ...number, many: true }, series('A line for each')]

export const SHOWS: Shown[] = [
  { show: 'line', label: 'Lines', columns: lines },
  { show: 'area', label: 'Area', columns: lines },
  { show: 'stacked-area', label: 'Stacked areas', columns: lines },
  { show: 'steps', label: 'Steps', columns: lines },
  { show: 'bar', label: 'Bars', columns: [label, { ...number, many: true }, series('A bar for each')] },
  { show: 'column', label: 'Columns', columns: [label, { ...number, many: true }, series('A column for each')] },
  { show: 'ranking', label: 'Ranking', columns: [label, number] },
  { show: 'share', label: 'Shares of the whole', columns: [label, number] },
  { show: 'figures', label: 'Key figures', columns: [{ key: 'columns', label: 'Figures', of: 'any', many: true }, { key: 'since', label: 'Beside what they were', of: 'any', choices: [{ value: 'window', label: 'In the window before' }, { value: 'run', label: 'In the run before' }] }] },
  { show: 'table', label: 'Table', columns: [{ key: 'columns', label: 'Columns', of: 'any', many: true }, { key: 'bars', label: 'With a small bar', of: 'number', many: true }] },
  { show: 'heat-map', label: 'Heat map by hour and weekday', columns: [time, number] },
  { show: 'small-multiples', label: 'A small chart for each', columns: [time, number, { key: 'series', label: 'A chart for each', of: 'any', needed: true }] },
  { show: 'polar', label: 'Around the clock', columns: [time, number, series('An outline for each')] },
  { show: 'timeline', label: 'States over time', columns: [time, { key: 'row', label: 'A row for each', of: 'any', needed: true }, { key: 'state', label: 'State', of: 'any', needed: true }] },
  { show: 'availability', label: 'Availability against objectives', columns: [label] },
  { show: 'forecast', label: 'Forecast', columns: [time] },
  { show: 'histogram', label: 'Histogram', columns: [number] },
  { show: 'box', label: 'Spread (box plot)', columns: [number, { key: 'row', label: 'A box for each', of: 'any' }] },
  { show: 'scatter', label: 'One value against another', columns: [{ key: 'across', label: 'Across', of: 'number', needed: true }, { key: 'up', label: 'Upwards', of: 'number', needed: true }, series('Coloured by')] },
  { show: 'breakdown', label: 'From before to after', columns: [label, number] },
]
export const shown = (show: string | undefined): Shown | null => SHOWS.find((one) => one.show === show) ?? null

const isTime = (column: Column) => column.kind === 'instant' || column.kind === 'date'
/** Whether a column can be what is wanted; why not, if it cannot. */
export function unfit(column: Column, wanted: Wanted): string | null {
  if (wanted.of === 'number' && !column.numeric) return `${column.name} is ${column.kind}, and this takes numbers`
  if (wanted.of === 'time' && !isTime(column)) return `${column.name} is ${column.kind}, and this takes instants`
  return null
}

/** The keys with which a kind would show these columns; nothing where they do not suit it. */
export function suited(show: string, columns: Column[]): Block | null {
  const numbers = columns.filter((column) => column.numeric).map((column) => column.name)
  const times = columns.filter(isTime).map((column) => column.name)
  const words = columns.filter((column) => !column.numeric && !isTime(column)).map((column) => column.name)
  const first = words[0] ?? times[0]
  const has = (...names: string[]) => names.every((name) => columns.some((column) => column.name === name))
  switch (show) {
    case 'line':
    case 'area':
    case 'stacked-area':
    case 'steps':
      if (!times.length || !numbers.length) return null
      return words.length ? { show, time: times[0], series: words[0], value: numbers[0] } : { show, time: times[0], value: numbers.length > 1 ? numbers.slice(0, 6) : numbers[0] }
    case 'bar':
    case 'column':
      return first && numbers.length ? { show, label: first, value: numbers.length > 1 && !times.length ? numbers.slice(0, 3) : numbers[0] } : null
    case 'ranking':
    case 'share':
      return words.length && numbers.length && !times.length ? { show, label: words[0], value: numbers[0] } : null
    case 'small-multiples':
      return times.length && numbers.length && words.length ? { show, time: times[0], value: numbers[0], series: words[0] } : null
    case 'polar':
    case 'heat-map':
      return times.length && numbers.length ? { show, time: times[0], value: numbers[0] } : null
    case 'timeline':
      return times.length && words.length > 1 ? { show, time: times[0], row: words[0], state: words[1] } : null
    case 'availability':
      return has('availability', 'objective', 'result') ? { show, label: first } : null
    case 'forecast':
      return times.length && has('observed', 'forecast', 'low_95', 'high_95') ? { show, time: times[0] } : null
    case 'histogram':
      return numbers.length ? { show, value: numbers[0] } : null
    case 'box':
      return numbers.length ? { show, value: numbers[0], ...(words.length ? { row: words[0] } : {}) } : null
    case 'scatter':
      return numbers.length > 1 ? { show, across: numbers[0], up: numbers[1], ...(words.length && !times.length ? { series: words[0] } : {}) } : null
    case 'figures':
      return numbers.length ? { show } : null
    case 'table':
      return { show }
    default:
      return null
  }
}

/** The kinds that suit these rows, the best first. */
export function fitting(columns: Column[], rows: number): Block[] {
  const [hasTime, hasWords] = [columns.some(isTime), columns.some((column) => !column.numeric && !isTime(column))]
  const order = rows === 1 ? ['figures', 'table'] : hasTime ? ['line', 'area', 'stacked-area', 'table', 'small-multiples', 'heat-map', 'polar', 'timeline', 'histogram', 'box'] : hasWords ? ['bar', 'ranking', 'column', 'share', 'table', 'box', 'scatter', 'histogram'] : ['table', 'histogram', 'scatter', 'box']
  return ['availability', 'forecast', ...order].map((show) => suited(show, columns)).filter((found): found is Block => found !== null)
}

/** The block as another kind: what both have stays, what the other needs is guessed. */
export function become(block: Block, show: string, columns: Column[]): Block {
  const kept = ['title', 'query', 'note', 'width', 'csv']
  const common = shown(show)?.columns.map((one) => one.key) ?? []
  const next: Block = {}
  for (const key of kept) if (block[key] !== undefined) next[key] = block[key]
  if (show === 'table' && block.limit !== undefined) next.limit = block.limit
  const guessed = suited(show, columns) ?? { show }
  const stays = Object.fromEntries(common.filter((key) => block[key] !== undefined && !(show === 'table' || show === 'figures')).map((key) => [key, shown(show)!.columns.find((one) => one.key === key)?.many || !Array.isArray(block[key]) ? block[key] : (block[key] as unknown[])[0]]))
  return { ...next, ...guessed, ...stays, show }
}

/** What a block says it shows, in words. */
export function sentence(block: Block): string {
  if (block.from) return `The block “${String(block.from).split('/').slice(1).join('/').trim()}” of ${String(block.from).split('/')[0]!.trim()}`
  if (block.show === 'text') return 'Text'
  if (block.show === 'page') return block.part ? `The page’s ${String(block.part)}, as it looks` : 'The page, as it looks'
  if (block.show === 'image') return 'A picture'
  if (block.show === 'page-break') return 'What follows begins on a new page'
  const list = (value: unknown) => (Array.isArray(value) ? value.join(', ') : String(value ?? ''))
  const parts = [shown(block.show)?.label ?? String(block.show ?? 'Nothing yet')]
  const what = list(block.value ?? block.columns ?? block.up ?? block.state)
  if (what) parts.push(`of ${what}`)
  if (block.query) parts.push(`from ${block.query}`)
  const each = list(block.series ?? block.label ?? block.row)
  if (each) parts.push(`for each ${each}`)
  if (block.time) parts.push('over time')
  if (block.limit) parts.push(`the first ${String(block.limit)}`)
  return parts.join(' ')
}
