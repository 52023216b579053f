// A live page as a query asks for it: what the editor does to its keys.
import type { Schemas } from '../api/client'
import type { Block, Keys, Query } from './model'

export type Piece = Schemas['PagePiece']

export const isPage = (query: Query | null | undefined): boolean => query?.page !== undefined
export const isLook = (query: Query | null | undefined): boolean => isPage(query) && query?.table === undefined && query?.download === undefined
export const partsOf = (query: Query | null | undefined): Keys[] => (Array.isArray(query?.part) ? (query.part as Keys[]) : [])
/** What a block calls a part: its title, or where it is. */
export const partName = (part: Keys): string => String(part.title ?? part.selector ?? '')

/** What is asked first of a page: all of it, for the window, sharp on paper. */
export const beginPage = (): Keys => ({ page: '/', printed: true })
/** A block that shows a page by a query that was just made. */
export const pageBlock = (title: string, query: string): Block => ({ show: 'page', title, query })

/** Takes a part into what is kept, or out of it. */
export function togglePart(query: Query, piece: Pick<Piece, 'selector' | 'title'>): void {
  const parts = partsOf(query)
  const rest = parts.filter((part) => part.selector !== piece.selector)
  if (rest.length === parts.length) rest.push({ selector: piece.selector, ...(piece.title && !/^(div|section|main|canvas|svg|figure|article|table)$/.test(piece.title) ? { title: piece.title } : {}) })
  if (rest.length) query.part = rest
  else delete query.part
}

/** The keys of one table within a query; an empty table goes. */
export function setIn(query: Query, table: string, key: string, value: unknown): void {
  const all = { ...((query[table] as Keys | undefined) ?? {}) }
  const empty = value === '' || value === null || value === undefined || value === false || (Array.isArray(value) && !value.length)
  if (empty) delete all[key]
  else all[key] = value
  if (Object.keys(all).length) query[table] = all
  else delete query[table]
}

/** What is kept of a page: how it looks, the rows of a table, or the file that it offers. */
export function keep(query: Query, what: 'look' | 'table' | 'download', selector = ''): void {
  for (const key of ['part', 'printed', 'table', 'download']) if (!(what === 'look' && (key === 'part' || key === 'printed'))) delete query[key]
  if (what === 'table') query.table = selector || 'table'
  if (what === 'download') query.download = true
}

/** The smallest part under a point, in CSS pixels of the page: what somebody means who presses there. */
export function pieceAt(pieces: Piece[], x: number, y: number): Piece | null {
  const under = pieces.filter((piece) => x >= piece.x && x <= piece.x + piece.width && y >= piece.y && y <= piece.y + piece.height)
  return under.sort((a, b) => a.width * a.height - b.width * b.height)[0] ?? null
}

/** An address taken apart: the source's own, and what stands behind it. */
export function splitAddress(address: string): { url: string; page: string } | null {
  const found = /^(https?:\/\/[^/?#\s]+)([^\s]*)$/i.exec(address.trim())
  if (!found) return null
  const rest = found[2] ?? ''
  return { url: found[1]!, page: rest.startsWith('/') ? rest : `/${rest}` }
}

/** An address whose times were written by hand, with the window in their place. */
export function withWindow(page: string): string {
  return page
    .replace(/([?&](?:from|start|since|begin)=)[^&#{]+/i, '$1{{ from }}')
    .replace(/([?&](?:to|end|until|till)=)[^&#{]+/i, '$1{{ to }}')
}
export const hasWindow = (page: string): boolean => /\{\{\s*(from|to)(_unix(_ms)?)?\s*\}\}/.test(page)
