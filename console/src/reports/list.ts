// Which reports a list shows, and in which order. All of it stands in the address, so that a
// view can be bookmarked.
import type { ReportView } from '../api/client'

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

export function fits(report: ReportView, state: string): boolean {
  const last = report.last_run
  switch (state) {
    case 'scheduled':
      return Boolean(report.schedule) && !report.paused
    case 'paused':
      return report.paused
    case 'request':
      return !report.schedule
    case 'trouble':
      return Boolean(last && ((last.settled && !last.good) || ['held', 'awaiting-approval'].includes(last.state)))
    case 'never':
      return !last
    default:
      return true
  }
}

const said = (report: ReportView) => [report.title, report.name, report.owner ?? '', report.file, ...report.tags, ...report.dashboards, ...report.audiences.map((one) => one.name), ...report.formats].join(' ').toLowerCase()

/** Every tag that is used, in order. */
export const tagsOf = (reports: ReportView[]): string[] => [...new Set(reports.flatMap((report) => report.tags))].sort((one, other) => natural.compare(one, other))

/** Text as people sort it: host-2 before host-10, whatever the case. */
const natural = new Intl.Collator('en', { numeric: true, sensitivity: 'base' })

export function shown(reports: ReportView[], view: View): ReportView[] {
  const words = view.search.toLowerCase().split(/\s+/).filter(Boolean)
  const found = reports.filter((report) => fits(report, view.state) && (!view.tag || report.tags.includes(view.tag)) && words.every((word) => said(report).includes(word)))
  const byTitle = (one: ReportView, other: ReportView) => natural.compare(one.title, other.title)
  // What has no such instant comes last.
  const at = (text: string | null | undefined, otherwise: number) => (text ? Date.parse(text) : otherwise)
  if (view.order === 'next') return found.sort((one, other) => at(one.paused ? null : one.next, Infinity) - at(other.paused ? null : other.next, Infinity) || byTitle(one, other))
  if (view.order === 'last') return found.sort((one, other) => at(other.last_run?.created_at, 0) - at(one.last_run?.created_at, 0) || byTitle(one, other))
  return found.sort(byTitle)
}
