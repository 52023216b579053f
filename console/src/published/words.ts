// What is published: what is asked for, and how it reads.
import { at } from '../api/base'
import type { Schemas } from '../api/client'
import { instant } from '../words'

export type View = Schemas['ViewView']
export type NewView = Schemas['NewView']

export interface Fields {
  title: string
  signedIn: boolean
  days: number | undefined
  password: string
  /** Lists of values to choose from, by parameter. */
  choices: Record<string, string[]>
}

/** The order for a view: what is shown, with what was filled in. */
export function orderOf(subject: Partial<NewView>, fields: Fields): NewView {
  const choices: Record<string, string[]> = {}
  for (const [name, values] of Object.entries(fields.choices)) {
    const wanted = [...new Set(values.map((value) => value.trim()).filter(Boolean))]
    if (wanted.length) choices[name] = wanted
  }
  // What is to be chosen is not fixed as well.
  const values = Object.fromEntries(Object.entries(subject.values ?? {}).filter(([name]) => !(name in choices)))
  return {
    ...subject,
    ...(subject.dashboard ? { values, choices } : {}),
    signed_in: fields.signedIn,
    ...(fields.title.trim() ? { title: fields.title.trim() } : {}),
    ...(fields.days ? { days: fields.days } : {}),
    ...(fields.password ? { password: fields.password } : {}),
  } as NewView
}

/** Who opens it, and until when. */
export function whomWords(view: Pick<View, 'signed_in' | 'has_password'>): string {
  if (view.signed_in) return 'whoever signs in and sees it'
  return view.has_password ? 'whoever has the address and the password' : 'whoever has the address'
}

export function untilWords(view: Pick<View, 'expires_at' | 'revoked_at'>, now: number): string {
  if (view.revoked_at) return `ended ${instant(view.revoked_at)}`
  if (!view.expires_at) return 'until it is ended'
  return new Date(view.expires_at).getTime() <= now ? `over since ${instant(view.expires_at)}` : `until ${instant(view.expires_at)}`
}

export const isGood = (view: Pick<View, 'expires_at' | 'revoked_at'>, now: number): boolean => !view.revoked_at && (!view.expires_at || new Date(view.expires_at).getTime() > now)

/** The path of an address, so that it opens beside this page whatever it is called outside. */
export const pathOf = (address: string): string => at(address.slice(Math.max(0, address.indexOf('/view/'))))

/** Documents of one snapshot by their format: of several files of one, how many there are. */
export function byFormat(files: Schemas['ArchiveEntry'][]): { format: string; id: string; count: number }[] {
  const found = new Map<string, { format: string; id: string; count: number }>()
  for (const { document } of files.filter((one) => !one.document.removed_at)) {
    const known = found.get(document.format)
    if (known) known.count += 1
    else found.set(document.format, { format: document.format, id: document.id, count: 1 })
  }
  return [...found.values()].sort((one, other) => one.count - other.count || other.format.localeCompare(one.format))
}
