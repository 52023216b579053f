// What can be done to a query's rows, one step after another.
import type { Keys } from './model'

export interface StepField {
  key: string
  label: string
  as: 'column' | 'columns' | 'numbers' | 'number' | 'text' | 'truth' | 'choice' | 'query' | 'values'
  choices?: { value: string; label: string }[]
  needed?: boolean
  usual?: string
}
export interface StepKind {
  do: string
  label: string
  fields: StepField[]
}

const choices = (...pairs: [string, string][]) => pairs.map(([value, label]) => ({ value, label }))
export const AGGREGATIONS = choices(['mean', 'Mean'], ['sum', 'Sum'], ['min', 'Lowest'], ['max', 'Highest'], ['count', 'Count'], ['median', 'Median'], ['p95', '95th percentile'], ['last', 'Last'])
const by: StepField = { key: 'by', label: 'For each', as: 'columns' }
const values: StepField = { key: 'value', label: 'Of', as: 'numbers' }
const time: StepField = { key: 'time', label: 'Time', as: 'column', needed: true }
const how: StepField = { key: 'with', label: 'As', as: 'choice', choices: AGGREGATIONS }
const rows: StepField = { key: 'rows', label: 'Rows', as: 'number', usual: '10' }
const of: StepField = { key: 'of', label: 'By', as: 'column', needed: true }

export const STEPS: StepKind[] = [
  { do: 'top', label: 'Keep the highest', fields: [rows, of, { key: 'others', label: 'The rest as one row called', as: 'text' }, { key: 'sum', label: 'Adding up', as: 'numbers' }] },
  { do: 'bottom', label: 'Keep the lowest', fields: [rows, of, { key: 'others', label: 'The rest as one row called', as: 'text' }, { key: 'sum', label: 'Adding up', as: 'numbers' }] },
  {
    do: 'filter',
    label: 'Keep only rows where',
    fields: [
      { key: 'column', label: 'Column', as: 'column', needed: true },
      { key: 'is', label: 'is one of', as: 'values' },
      { key: 'is-not', label: 'is none of', as: 'values' },
      { key: 'contains', label: 'contains', as: 'text' },
      { key: 'at-least', label: 'is at least', as: 'number' },
      { key: 'at-most', label: 'is at most', as: 'number' },
      { key: 'past', label: 'is past its threshold', as: 'choice', choices: choices(['warning', 'of a warning'], ['critical', 'of critical']) },
    ],
  },
  { do: 'group', label: 'One row for each group', fields: [by, values, how, { key: 'total', label: 'The whole as a row called', as: 'text' }, { key: 'shares', label: 'With shares of the whole', as: 'truth' }] },
  { do: 'sort', label: 'Sort', fields: [{ ...by, label: 'By', needed: true }, { key: 'order', label: 'Order', as: 'choice', choices: choices(['lowest', 'Lowest first'], ['highest', 'Highest first']) }] },
  { do: 'limit', label: 'Keep the first rows', fields: [rows] },
  { do: 'resample', label: 'One value for each step of time', fields: [time, values, how, by, { key: 'every', label: 'Every', as: 'text', usual: 'as fits the window' }] },
  { do: 'rate', label: 'Growth of a counter', fields: [time, values, by, { key: 'per', label: 'Per', as: 'text', usual: '1 second' }] },
  { do: 'difference', label: 'Difference from row to row', fields: [values, by] },
  { do: 'cumulative', label: 'Running total', fields: [values, by] },
  { do: 'moving-mean', label: 'Moving mean', fields: [values, by, { key: 'over', label: 'Over rows', as: 'number', usual: '7' }] },
  {
    do: 'compute',
    label: 'A column worked out of others',
    fields: [
      { key: 'column', label: 'Called', as: 'text', needed: true },
      { key: 'how', label: 'As', as: 'choice', needed: true, choices: choices(['percent', 'Percent: the first of the second'], ['ratio', 'First divided by second'], ['sum', 'Sum'], ['difference', 'Difference'], ['product', 'Product']) },
      { key: 'of', label: 'Of', as: 'numbers', needed: true },
      { key: 'factor', label: 'Times', as: 'number', usual: '1' },
    ],
  },
  { do: 'statistics', label: 'Statistics', fields: [values, by] },
  { do: 'rank', label: 'Number by rank', fields: [of, { key: 'column', label: 'Called', as: 'text', usual: 'rank' }] },
  { do: 'breakdown', label: 'From before to after', fields: [{ key: 'label', label: 'Names', as: 'column', needed: true }, { key: 'value', label: 'Values', as: 'column', needed: true }] },
  { do: 'join', label: 'Add columns of another query', fields: [{ key: 'with', label: 'Query', as: 'query', needed: true }, { key: 'on', label: 'Where these are equal', as: 'columns', needed: true }, { key: 'keep', label: 'Rows', as: 'choice', choices: choices(['all', 'All rows'], ['matching', 'Only rows with a match']) }] },
  {
    do: 'availability',
    label: 'Availability against an objective',
    fields: [
      { ...by, label: 'Of each', needed: true },
      { key: 'time', label: 'Instants of states', as: 'column' },
      { key: 'state', label: 'State', as: 'column' },
      { key: 'from', label: 'or: beginning of a state', as: 'column' },
      { key: 'to', label: 'End of a state', as: 'column' },
      { key: 'objective', label: 'Objective in percent', as: 'number', usual: '99.9' },
      { key: 'objective-column', label: 'or: objective in', as: 'column' },
      { key: 'longest-gap', label: 'Not known after', as: 'text', usual: 'the next one' },
      { key: 'otherwise', label: 'Where nothing is said', as: 'choice', choices: choices(['up', 'Up'], ['down', 'Down'], ['unknown', 'Not known']) },
      { key: 'warning', label: 'A warning counts as', as: 'choice', choices: choices(['up', 'Up'], ['down', 'Down'], ['nothing', 'Nothing']) },
      { key: 'unknown', label: 'Not known counts as', as: 'choice', choices: choices(['nothing', 'Nothing'], ['up', 'Up'], ['down', 'Down']) },
      { key: 'things', label: 'All things are listed in', as: 'query' },
      { key: 'leave-out', label: 'Left out is what these queries say', as: 'values' },
      { key: 'group', label: 'In groups of', as: 'column' },
      { key: 'needs', label: 'A group needs', as: 'choice', choices: choices(['all', 'All parts'], ['any', 'Any part'], ['mean', 'Nothing: the mean of its parts']) },
      { key: 'total', label: 'Everything as a row called', as: 'text' },
      { key: 'give', label: 'Rows', as: 'choice', choices: choices(['things', 'One for each thing'], ['outages', 'One for each outage'], ['history', 'One for each thing and period']) },
      { key: 'every', label: 'Period', as: 'choice', choices: choices(['day', 'Day'], ['week', 'Week'], ['month', 'Month'], ['quarter', 'Quarter']) },
    ],
  },
  {
    do: 'forecast',
    label: 'Forecast',
    fields: [
      time,
      { key: 'value', label: 'Of', as: 'column', needed: true },
      by,
      { key: 'method', label: 'By', as: 'choice', choices: choices(['choose', 'The best on the past'], ['line', 'Straight line'], ['quadratic', 'Quadratic curve'], ['cubic', 'Cubic curve'], ['robust-line', 'Robust line'], ['smoothing', 'Smoothing with trend'], ['damped-smoothing', 'Smoothing with a fading trend'], ['multiplied-smoothing', 'Smoothing, season multiplied'], ['multiplied-damped-smoothing', 'The same, fading']) },
      { key: 'ahead', label: 'Ahead', as: 'text', usual: 'half as long as the past' },
      { key: 'season', label: 'Season', as: 'text', usual: 'as found' },
      { key: 'limit', label: 'Limit', as: 'number', usual: 'those of the column' },
      { key: 'give', label: 'Rows', as: 'choice', choices: choices(['steps', 'One for each step of time'], ['limits', 'One for each series: when its limit is reached']) },
    ],
  },
  { do: 'stand-out', label: 'What stands out', fields: [time, { key: 'value', label: 'Of', as: 'column', needed: true }, by, { key: 'threshold', label: 'From so many usual deviations', as: 'number', usual: '6' }, { key: 'rows', label: 'At most', as: 'number', usual: '10' }] },
  {
    do: 'changes',
    label: 'What is new, gone and altered',
    fields: [
      { key: 'key', label: 'Rows belong together by', as: 'columns', needed: true },
      { key: 'since', label: 'Since', as: 'choice', choices: choices(['run', 'The run before'], ['window', 'The window before']) },
      { key: 'with', label: 'or: compared with', as: 'query' },
      { key: 'run', label: 'or: with the run', as: 'text' },
      { key: 'ignore', label: 'Whatever changes in', as: 'columns' },
      { key: 'tolerance', label: 'Numbers may differ by', as: 'number', usual: '0' },
      { key: 'tolerance-percent', label: 'or by percent', as: 'number', usual: '0' },
      { key: 'keep', label: 'Keep', as: 'choice', choices: choices(['changed', 'What changed'], ['all', 'All rows']) },
      { key: 'give', label: 'As', as: 'choice', choices: choices(['rows', 'Rows'], ['counts', 'One row with how many']) },
    ],
  },
  {
    do: 'compare',
    label: 'Beside what it was',
    fields: [
      { key: 'key', label: 'Rows belong together by', as: 'columns' },
      { key: 'columns', label: 'Numbers', as: 'columns' },
      { key: 'since', label: 'Since', as: 'choice', choices: choices(['run', 'The run before'], ['window', 'The window before']) },
      { key: 'with', label: 'or: compared with', as: 'query' },
      { key: 'run', label: 'or: with the run', as: 'text' },
    ],
  },
  { do: 'histogram-percentile', label: 'Percentile of buckets', fields: [{ key: 'bound', label: 'Bounds', as: 'column', usual: 'le' }, { key: 'value', label: 'Counts', as: 'column', usual: 'value' }, by, { key: 'percentile', label: 'Percentile', as: 'number', usual: '95' }] },
  { do: 'select', label: 'Only these columns', fields: [{ key: 'columns', label: 'Columns', as: 'columns', needed: true }] },
]
export const step = (name: unknown): StepKind | null => STEPS.find((one) => one.do === name) ?? null

/** The keys that a step over time begins with, guessed from the columns there are. */
export function usualKeys(kind: string, columns: { name: string; kind: string; numeric: boolean }[]): Keys {
  const words = columns.filter((column) => column.kind === 'text').map((column) => column.name)
  const state = columns.find((column) => column.kind === 'boolean')?.name ?? words[1]
  if (kind === 'availability') return { by: words.slice(0, 1), ...(state ? { state } : {}), objective: 99.9 }
  if (kind === 'forecast' || kind === 'stand-out') return { by: words.slice(0, 1), value: columns.find((column) => column.numeric)?.name ?? '' }
  return {}
}

/** What a step does, in words. */
export function stepWords(keys: Keys): string {
  const kind = step(keys.do)
  if (!kind) return String(keys.do ?? '')
  const said = kind.fields
    .filter((field) => keys[field.key] !== undefined && keys[field.key] !== '' && keys[field.key] !== false)
    .map((field) => {
      const value = keys[field.key]
      const word = field.choices?.find((choice) => choice.value === value)?.label ?? (Array.isArray(value) ? value.join(', ') : value === true ? '' : String(value))
      return `${field.label.toLowerCase()} ${word}`.trim()
    })
  return [kind.label, ...said].join(', ')
}

/** Sets a field of a step; what is empty goes. */
export function setField(keys: Keys, field: StepField, value: unknown): void {
  const empty = value === '' || value === null || value === undefined || value === false || (Array.isArray(value) && !value.length)
  if (empty) delete keys[field.key]
  else if (field.as === 'number') keys[field.key] = Number.isFinite(Number(value)) ? Number(value) : value
  else keys[field.key] = value
}
