// What the pages of templates work out: which are shown, what is still missing, and the order
// that a filled form is.
import type { Schemas } from '../api/client'

export type Template = Schemas['TemplateView']

export interface Group {
  title: string
  templates: Template[]
}

/** Templates that have every word of a search, under the headings of their purposes. */
export function grouped(templates: Template[], search: string, kind: string): Group[] {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean)
  const found = templates.filter((one) => {
    const said = [one.name, one.title, one.question, one.purpose_title, one.source_kind].join(' ').toLowerCase()
    return (!kind || one.source_kind === kind) && words.every((word) => said.includes(word))
  })
  const groups: Group[] = []
  for (const template of found) {
    const group = groups.find((one) => one.title === template.purpose_title)
    if (group) group.templates.push(template)
    else groups.push({ title: template.purpose_title, templates: [template] })
  }
  return groups
}

export const OFTEN = [
  { value: 'day', label: 'Every day', window: { previous: 'day' }, schedule: { every: 'day' }, words: 'the previous day' },
  { value: 'weekday', label: 'Every weekday', window: { previous: 'day' }, schedule: { every: 'weekday' }, words: 'the previous day' },
  { value: 'week', label: 'Every Monday', window: { previous: 'week' }, schedule: { every: 'week', on: ['monday'] }, words: 'the previous week' },
  { value: 'month', label: 'On the first of the month', window: { previous: 'month' }, schedule: { every: 'month', on: ['1'] }, words: 'the previous month' },
  { value: 'request', label: 'Only when asked', window: { previous: 'day' }, schedule: null, words: 'the previous day' },
] as const
export type Often = (typeof OFTEN)[number]['value']

/** What somebody has entered so far. */
export interface Draft {
  source: string
  values: Record<string, string>
  title: string
  report: boolean
  often: Often
  at: string
  zone: string
  formats: string[]
  to: string[]
}

export const empty = (zone: string): Draft => ({ source: '', values: {}, title: '', report: true, often: 'day', at: '07:30', zone, formats: ['pdf'], to: [] })

/** A draft as it was stored, with what has come to drafts since; nothing that is none. */
export function restored(stored: string | null, zone: string): Draft {
  try {
    const found: unknown = JSON.parse(stored ?? 'null')
    return found && typeof found === 'object' ? { ...empty(zone), ...found } : empty(zone)
  } catch {
    return empty(zone)
  }
}

const often = (draft: Draft) => OFTEN.find((one) => one.value === draft.often) ?? OFTEN[0]

export function windowOf(draft: Draft): Record<string, string> {
  return { ...often(draft).window }
}

export function scheduleOf(draft: Draft): Record<string, unknown> | null {
  const { schedule } = often(draft)
  return schedule ? { ...schedule, at: draft.at } : null
}

/** The titles of what must be given before anything can be made. */
export function missing(template: Template, draft: Draft): string[] {
  const inputs = template.inputs.filter((input) => !input.default && !draft.values[input.name]?.trim())
  return [...(draft.source ? [] : ['Source']), ...inputs.map((input) => input.title)]
}

export function orderOf(draft: Draft): Schemas['TemplateOrder'] {
  const values = Object.fromEntries(Object.entries(draft.values).filter(([, value]) => value.trim()))
  return {
    source: draft.source,
    values,
    ...(draft.title.trim() ? { title: draft.title.trim() } : {}),
    ...(draft.report ? { report: { time_zone: draft.zone, window: windowOf(draft), schedule: scheduleOf(draft), formats: draft.formats, to: draft.to } } : {}),
  }
}

const listed = (words: string[]) => (words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} and ${words[words.length - 1]}`)

/** What will happen, in a sentence. */
export function sentence(draft: Draft, title: string): string {
  if (!draft.report) return `The dashboard “${title}” is made; nothing is sent.`
  const { label, words } = often(draft)
  const when = draft.often === 'request' ? label : `${label} at ${draft.at}, ${draft.zone.replace(/_/g, ' ')},`
  const what = `${words} of “${title}” as ${listed(draft.formats.map((format) => format.toUpperCase())) || 'PDF'}`
  const whom = draft.to.length ? `goes to ${listed(draft.to)}` : 'is made and sent to nobody yet'
  return draft.often === 'request' ? `${label}, ${what} ${whom}.` : `${when} ${what} ${whom}.`
}

/** What a source's catalogue offers for an input. */
export function offered(input: Schemas['TemplateInput'], catalogue: Schemas['CatalogueEntry'][], values: Record<string, string>): string[] {
  if (['table', 'metric', 'file'].includes(input.kind)) return catalogue.map((entry) => entry.name)
  if (!['column', 'label'].includes(input.kind) || !input.of) return []
  const of = values[input.of] ?? ''
  const entry = catalogue.find((one) => one.name === of) ?? catalogue.find((one) => one.name.endsWith(`.${of}`) || of.endsWith(`.${one.name}`))
  return entry?.items.map((item) => item.name) ?? []
}

export interface Drawn {
  show: string
  x: number
  y: number
  width: number
  height: number
}

const HEIGHTS: Record<string, number> = { figures: 12, table: 26, text: 8, share: 12 }

/** The blocks of a dashboard as a page of 120 wide: side by side where they fit. */
export function laidOut(blocks: Schemas['TemplateBlock'][], most = 96): Drawn[] {
  const drawn: Drawn[] = []
  let [x, y, row] = [0, 0, 0]
  for (const block of blocks.filter((one) => one.show !== 'page-break')) {
    const height = HEIGHTS[block.show] ?? 24
    if (x + block.twelfths > 12) [x, y, row] = [0, y + row + 5, 0]
    if (y + height > most) break
    drawn.push({ show: block.show, x: x * 10 + (x ? 2.5 : 0), y, width: block.twelfths * 10 - (x ? 2.5 : 0) - (x + block.twelfths < 12 ? 2.5 : 0), height })
    x += block.twelfths
    row = Math.max(row, height)
  }
  return drawn
}
