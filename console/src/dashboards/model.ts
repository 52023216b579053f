// A dashboard as its keys, and what an editor does to it. Every change works on a copy that the
// draft has made, and knows nothing of how a definition is written.

export type Keys = Record<string, unknown>

export interface Block extends Keys {
  show?: string
  title?: string
  query?: string
  /** `dashboard / title` of a block that is used here, too. */
  from?: string
}
export interface Section extends Keys {
  title: string
  block?: Block[]
}
export interface Query extends Keys {
  name: string
  source?: string
  of?: string
  sampler?: string
  then?: Keys[]
  column?: Keys[]
}
export interface Dashboard {
  dashboard: { name: string; title: string; summary?: string } & Keys
  parameter?: Keys[]
  query?: Query[]
  section?: Section[]
}
/** Where a block stands, counted from 0. */
export interface Place {
  section: number
  block: number
}

export const at = (keys: Dashboard, place: Place | null): Block | null => (place ? (keys.section?.[place.section]?.block?.[place.block] ?? null) : null)
export const same = (one: Place | null, other: Place | null): boolean => one?.section === other?.section && one?.block === other?.block
export const queryOf = (keys: Dashboard, name: string | undefined): Query | null => keys.query?.find((query) => query.name === name) ?? null

/** Every block with its place, in the order of the page. */
export const blocksOf = (keys: Dashboard): { place: Place; block: Block }[] =>
  (keys.section ?? []).flatMap((section, number) => (section.block ?? []).map((block, index) => ({ place: { section: number, block: index }, block })))

function says(value: unknown, text: string): boolean {
  if (Array.isArray(value)) return value.some((one) => says(one, text))
  if (value && typeof value === 'object') return Object.values(value).some((one) => says(one, text))
  return value === text
}

/** The names of the queries that something needs, and those that these need in turn. */
export function needs(keys: Dashboard, of: unknown): string[] {
  const needed: string[] = []
  const open: unknown[] = [of]
  while (open.length) {
    const by = open.pop()
    for (const query of keys.query ?? []) {
      if (!needed.includes(query.name) && query !== by && says(by, query.name)) {
        needed.push(query.name)
        open.push(query)
      }
    }
  }
  return needed
}

/** What a block's picture depends on: if this stays the same, so does the picture. */
export const fingerprint = (keys: Dashboard, block: Block): string => {
  const parameters = keys.parameter ?? []
  const needed = needs(keys, [block, parameters])
  return JSON.stringify([block, parameters, (keys.query ?? []).filter((query) => needed.includes(query.name)), keys.dashboard.step ?? null])
}

/** A name that none of the others has: `load`, `load_2`, `load_3`. */
export function freshName(wanted: string, taken: string[], joint = '_'): string {
  const base = wanted || 'query'
  if (!taken.includes(base)) return base
  let number = 2
  while (taken.includes(`${base}${joint}${number}`)) number += 1
  return `${base}${joint}${number}`
}

/** A query's name that words suggest: `CPU of hosts` is `cpu_of_hosts`. */
export function queryName(words: string): string {
  const plain = words.normalize('NFKD').replace(/\p{M}/gu, '').toLowerCase().replace(/[^a-z0-9]+/g, '_')
  return plain.replace(/^_+|_+$/g, '').replace(/^(?=\d)/, 'q_').slice(0, 40)
}

const sections = (keys: Dashboard): Section[] => (keys.section ??= [])
const blocks = (section: Section): Block[] => (section.block ??= [])

/** Puts a block behind another, or at the end of the page; a page without sections gets one. */
export function add(keys: Dashboard, block: Block, after: Place | null): Place {
  const all = sections(keys)
  if (!all.length) all.push({ title: 'Overview', block: [] })
  const number = Math.min(after?.section ?? all.length - 1, all.length - 1)
  const list = blocks(all[number]!)
  const index = after ? Math.min(after.block + 1, list.length) : list.length
  list.splice(index, 0, block)
  return { section: number, block: index }
}

/** Takes a block off the page, with the queries that nothing needs any more. */
export function remove(keys: Dashboard, place: Place): void {
  const before = at(keys, place)
  if (!before) return
  blocks(keys.section![place.section]!).splice(place.block, 1)
  forget(keys, needs(keys, before))
}

/** Takes queries away that nothing needs any more. */
function forget(keys: Dashboard, names: string[]): void {
  const rest = [...blocksOf(keys).map((one) => one.block), keys.parameter ?? []]
  const needed = new Set(needs(keys, rest))
  keys.query = (keys.query ?? []).filter((query) => !names.includes(query.name) || needed.has(query.name))
  if (!keys.query.length) delete keys.query
}

/** A copy of a block behind it; both show the same query. */
export function copy(keys: Dashboard, place: Place): Place {
  const block = at(keys, place)
  if (!block) return place
  const titles = blocksOf(keys).map((one) => one.block.title ?? '')
  const other = structuredClone(block)
  if (other.title) other.title = freshName(other.title, titles, ' ')
  return add(keys, other, place)
}

/** One place up or down, also into the section beside; answers where it stands then. */
export function shift(keys: Dashboard, place: Place, by: 1 | -1): Place {
  const all = sections(keys)
  const list = blocks(all[place.section]!)
  const to = place.block + by
  if (to >= 0 && to < list.length) return move(keys, place, { section: place.section, block: to })
  const section = place.section + by
  if (section < 0 || section >= all.length) return place
  return move(keys, place, { section, block: by === 1 ? 0 : blocks(all[section]!).length })
}

/** Moves a block so that it stands at a place afterwards. */
export function move(keys: Dashboard, from: Place, to: Place): Place {
  const block = at(keys, from)
  if (!block) return from
  blocks(keys.section![from.section]!).splice(from.block, 1)
  const list = blocks(sections(keys)[to.section]!)
  const index = Math.min(to.block, list.length)
  list.splice(index, 0, block)
  return { section: to.section, block: index }
}

/** A new section behind another, or at the end. */
export function addSection(keys: Dashboard, after?: number): number {
  const titles = sections(keys).map((section) => section.title)
  const number = after === undefined ? titles.length : after + 1
  sections(keys).splice(number, 0, { title: freshName('New section', titles, ' '), block: [] })
  return number
}

export function shiftSection(keys: Dashboard, number: number, by: 1 | -1): number {
  const all = sections(keys)
  const to = number + by
  if (to < 0 || to >= all.length) return number
  const [section] = all.splice(number, 1)
  all.splice(to, 0, section!)
  return to
}

/** A section goes; its blocks go into the one before it, or the one behind. */
export function removeSection(keys: Dashboard, number: number): void {
  const all = sections(keys)
  const [gone] = all.splice(number, 1)
  const heir = all[number - 1] ?? all[number]
  if (gone?.block?.length && heir) {
    if (number > 0) blocks(heir).push(...gone.block)
    else blocks(heir).unshift(...gone.block)
  }
}

/** Takes a block out of documents, or back into them; it stays in the dashboard. */
export function hide(keys: Dashboard, place: Place): void {
  const block = at(keys, place)
  if (!block) return
  if (block.hide === true) delete block.hide
  else block.hide = true
}

const WIDTHS = [4, 6, 8, 12]
const WORDS: Record<string, number> = { full: 12, half: 6, third: 4, 'two-thirds': 8 }

/** The twelfths of the page that a block takes. */
export const width = (block: Block): number => (typeof block.width === 'number' ? block.width : typeof block.width === 'string' ? (WORDS[block.width] ?? 12) : 12)

/** The next wider or narrower width. */
export function resize(block: Block, by: 1 | -1): void {
  const now = width(block)
  const next = by === 1 ? WIDTHS.find((one) => one > now) : [...WIDTHS].reverse().find((one) => one < now)
  if (next !== undefined) block.width = next
}

/** Whether a block shows only the first of its rows. */
export function isCut(keys: Dashboard, block: Block): boolean {
  const query = queryOf(keys, block.query)
  const pick = query?.pick as Keys | undefined
  return block.show !== 'ranking' && (block.limit !== undefined || pick?.top !== undefined || (query?.then ?? []).some((step) => ['top', 'bottom', 'limit'].includes(String(step.do))))
}

/** All rows instead of the first few. A query that other blocks show, too, is left as it is for them. */
export function lift(keys: Dashboard, place: Place): void {
  const block = at(keys, place)
  let query = queryOf(keys, block?.query)
  if (!block) return
  delete block.limit
  const pick = query?.pick as Keys | undefined
  const cuts = (step: Keys) => ['top', 'bottom', 'limit'].includes(String(step.do))
  if (!query || (pick?.top === undefined && !(query.then ?? []).some(cuts))) return
  const others = blocksOf(keys).filter((one) => one.block !== block && needs(keys, one.block).includes(query!.name))
  if (others.length) {
    query = structuredClone(query)
    query.name = freshName(`${query.name}_all`, keys.query!.map((one) => one.name))
    keys.query!.push(query)
    block.query = query.name
  }
  const open = query.pick as Keys | undefined
  if (open) delete open.top
  if (query.then) query.then = query.then.filter((step) => !cuts(step))
  if (!query.then?.length) delete query.then
}

/** A copy of a query under a name of its own. */
export function copyQuery(keys: Dashboard, name: string): string {
  const query = queryOf(keys, name)
  if (!query) return name
  const other = structuredClone(query)
  other.name = freshName(name, keys.query!.map((one) => one.name))
  keys.query!.push(other)
  return other.name
}

/** Gives a query another name wherever it is said. */
export function renameQuery(keys: Dashboard, from: string, to: string): void {
  const query = queryOf(keys, from)
  if (!query || from === to) return
  const follow = (table: Keys, fields: string[]) => fields.forEach((field) => table[field] === from && (table[field] = to))
  for (const one of keys.query ?? []) {
    follow(one, ['of'])
    one.then?.forEach((step) => follow(step, ['with']))
  }
  for (const { block } of blocksOf(keys)) follow(block, ['query', 'before', 'trend', 'spans'])
  for (const parameter of keys.parameter ?? []) follow(parameter, ['choices-from'])
  query.name = to
}

/**
 * Cuts a dashboard in two: the chosen blocks go into a new one with what they need, and what the
 * rest does not need any more goes with them.
 */
export function cut(keys: Dashboard, places: Place[], name: string, title: string): Dashboard {
  const chosen = (section: number, block: number) => places.some((place) => same(place, { section, block }))
  const other: Dashboard = { dashboard: { name, title }, section: [] }
  const moved: Block[] = []
  sections(keys).forEach((section, number) => {
    const taken = blocks(section).filter((_, index) => chosen(number, index))
    if (!taken.length) return
    moved.push(...taken)
    other.section!.push({ ...structuredClone(section), block: structuredClone(taken) })
    section.block = section.block!.filter((_, index) => !chosen(number, index))
  })
  const needed = needs(keys, moved)
  const parameters = (keys.parameter ?? []).filter((parameter) => [...moved, ...(keys.query ?? []).filter((query) => needed.includes(query.name))].some((one) => mentions(one, String(parameter.name))))
  const all = [...new Set([...needed, ...needs(keys, parameters)])]
  const queries = (keys.query ?? []).filter((query) => all.includes(query.name))
  if (queries.length) other.query = structuredClone(queries)
  if (parameters.length) other.parameter = structuredClone(parameters)
  keys.section = sections(keys).filter((section) => section.block?.length)
  forget(keys, needed)
  return other
}

/** Whether a parameter is used: by name in a pick, as `:name` in SQL, or as `{{ name }}`. */
function mentions(value: unknown, name: string): boolean {
  if (Array.isArray(value)) return value.some((one) => mentions(one, name))
  if (value && typeof value === 'object') return Object.values(value).some((one) => mentions(one, name))
  return typeof value === 'string' && (value === name || new RegExp(`(?<![:\\w]):${name}\\b|\\{\\{\\s*${name}\\b`).test(value))
}
