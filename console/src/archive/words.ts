// What is looked for in the archive, and how what was found reads.
import type { Schemas } from '../api/client'

export type Entry = Schemas['ArchiveEntry']
export interface Wanted {
  words: string
  report: string
  recipient: string
  format: string
  status: string
  from: string
  to: string
  sort: string
}
export const NOTHING: Wanted = { words: '', report: '', recipient: '', format: '', status: '', from: '', to: '', sort: '' }

/** What an address says, as fields; what it does not say is empty. */
export const wantedOf = (query: Record<string, unknown>): Wanted =>
  Object.fromEntries(Object.keys(NOTHING).map((key) => [key, typeof query[key] === 'string' ? query[key] : ''])) as unknown as Wanted

/** What is filled in, for the page's own address. */
export const kept = (wanted: Wanted): Record<string, string> => Object.fromEntries(Object.entries(wanted).filter(([, value]) => value)) as Record<string, string>

/** The same as the service is asked; days as the browser's clock has them, the last one with it. */
export function asked(wanted: Wanted): Record<string, string> {
  const start = (day: string, later: number): string => {
    const [year, month, date] = day.split('-').map(Number) as [number, number, number]
    return new Date(year, month - 1, date + later).toISOString()
  }
  const { from, to, ...rest } = kept(wanted)
  return { ...rest, ...(from ? { from: start(from, 0) } : {}), ...(to ? { to: start(to, 1) } : {}) }
}

/** How many there are, in words. */
export const countWords = (total: number, more: boolean): string => (more ? `more than ${total.toLocaleString('en')} documents` : total === 1 ? '1 document' : `${total.toLocaleString('en')} documents`)

/** One picture for each view of each run of a page of documents, in their order. */
export function fronts(entries: Entry[]): Entry[] {
  const seen = new Set<string>()
  return entries.filter((one) => !seen.has(one.document.snapshot_id) && seen.add(one.document.snapshot_id))
}

/** The files of each view of a run together, in the order in which the first of each was found. The report's own number format comes before those of recipients. */
export function grouped(entries: Entry[]): Entry[][] {
  const views = new Map<string, Entry[]>()
  for (const one of entries) views.set(one.document.snapshot_id, [...(views.get(one.document.snapshot_id) ?? []), one])
  return [...views.values()].map((files) => files.sort((one, other) => Number(Boolean(one.document.variant)) - Number(Boolean(other.document.variant))))
}

/** How a document was judged, at a glance. */
export const statusMark = (status: string): { mark: string; word: string; tone: string } =>
  status === 'critical' ? { mark: '◆', word: 'Critical', tone: 'critical' } : status === 'unknown' ? { mark: '?', word: 'Unknown', tone: 'muted' } : status === 'warning' ? { mark: '▲', word: 'Warning', tone: 'warning' } : { mark: '●', word: 'Within limits', tone: 'ok' }
