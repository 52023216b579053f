// Which reports a list asks for, and in which order. All of it stands in the address, so that a
// view can be bookmarked.
import type { paths } from '../api/schema'
import type { ReportView } from '../api/client'
import { reportFilterValues, reportOrderValues } from '../api/schema'

export const STATES = [
  { value: '', label: 'All reports' },
  { value: 'scheduled', label: 'On a schedule' },
  { value: 'paused', label: 'Paused' },
  { value: 'request', label: 'On request only' },
  { value: 'trouble', label: 'Needs attention' },
  { value: 'never', label: 'Never run' },
] as const

export const ORDERS = [
  { value: '', label: 'By title' },
  { value: 'next', label: 'Next run first' },
  { value: 'last', label: 'Last run first' },
] as const

export interface View {
  search: string
  state: string
  order: string
  tag: string
}

type Query = NonNullable<paths['/reports']['get']['parameters']['query']>

/** What the service is asked for; a word that it does not know, as in an old bookmark, is left out. */
export function queryOf(view: View, page: number, size: number): Query {
  const state = reportFilterValues.find((one) => one === view.state)
  const order = reportOrderValues.find((one) => one === view.order)
  const words = view.search.trim()
  return { page, size, ...(words ? { words } : {}), ...(state ? { state } : {}), ...(order ? { order } : {}), ...(view.tag ? { tag: view.tag } : {}) }
}

/** How many runs there are, and of how many: `12 of 30 runs`. */
export function countWords(report: Pick<ReportView, 'run_count' | 'run_limit'>): string {
  const count = report.run_count.toLocaleString('en')
  if (report.run_limit) return `${count} of ${report.run_limit} runs`
  return `${count} ${report.run_count === 1 ? 'run' : 'runs'}`
}
