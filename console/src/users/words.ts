// How users, browsers and passwords read.
import type { Schemas } from '../api/client'
import type { StateWords } from '../words'

type Entry = Schemas['UserEntry']
export type Role = Entry['role']

/** What each role may do, the least first. */
export const ROLES: { value: Role; label: string; may: string }[] = [
  { value: 'viewer' as Role, label: 'Viewer', may: 'sees reports, runs and documents' },
  { value: 'author' as Role, label: 'Author', may: 'makes, runs and sends reports' },
  { value: 'administrator' as Role, label: 'Administrator', may: 'also changes sources, channels, secrets and users' },
]
export const roleLabel = (role: Role): string => ROLES.find((one) => one.value === role)?.label ?? role

export type TokenScope = Schemas['Token']['scope']

/** What a token can be good for, the least first. */
export const SCOPES: { value: TokenScope; label: string }[] = [
  { value: 'read' as TokenScope, label: 'looking' },
  { value: 'run' as TokenScope, label: 'looking and running reports' },
  { value: 'all' as TokenScope, label: 'all that you may do' },
]
export const scopeLabel = (scope: TokenScope): string => SCOPES.find((one) => one.value === scope)?.label ?? scope

export type Held = Record<string, string[]>

/** What somebody is held to, a line a parameter: "port = havnes, skarvoy". */
export const heldWords = (held: Held): string =>
  Object.entries(held)
    .map(([name, values]) => `${name} = ${values.join(', ')}`)
    .join('\n')

/** What somebody has besides a password. */
export function factorWords(entry: Pick<Entry, 'second_factor' | 'passkeys'>): string {
  const keys = entry.passkeys === 1 ? 'a passkey' : entry.passkeys ? `${entry.passkeys} passkeys` : ''
  return `with ${[entry.second_factor ? 'a second factor' : '', keys].filter(Boolean).join(' and ')}`
}

/** Reports by their names, as many as can be read at a glance. */
export function reportWords(names: string[]): string {
  const shown = names.slice(0, 5).join(', ')
  if (names.length === 1) return `the report ${shown}`
  return `the reports ${shown}${names.length > 5 ? ` and ${names.length - 5} more` : ''}`
}

/** The same, read back; a text says what is wrong with it. */
export function heldFrom(text: string): Held | string {
  const held: Held = {}
  for (const line of text.split('\n').filter((one) => one.trim())) {
    const [name = '', values] = line.split(/=(.*)/s)
    const all = (values ?? '').split(',').map((one) => one.trim()).filter(Boolean)
    if (!name.trim() || !all.length) return `Write "${line.trim()}" as a parameter and its values: port = havnes, skarvoy`
    held[name.trim()] = all
  }
  return held
}

/** Who says that it is them, if that is not their password here. */
export const SIGNS_IN_BY: Record<Entry['signs_in_by'], string> = { password: '', directory: 'by the directory', provider: 'by the identity provider' }

/** Whether somebody can sign in, at a glance. */
export function userState(user: Pick<Entry, 'disabled_at' | 'has_password' | 'invited_until' | 'signs_in_by' | 'left_at'>): StateWords {
  if (user.disabled_at) return { mark: '◇', word: 'Disabled', tone: 'quiet' }
  if (user.left_at) return { mark: '◇', word: 'Left the organisation', tone: 'quiet' }
  if (user.signs_in_by !== 'password' || user.has_password) return { mark: '●', word: 'Active', tone: 'ok' }
  if (user.invited_until) return { mark: '○', word: 'Invited', tone: 'running' }
  return { mark: '▲', word: 'Invitation ended', tone: 'warning' }
}

const BROWSERS: [RegExp, string][] = [
  [/Edg\//, 'Edge'],
  [/Firefox\//, 'Firefox'],
  [/Chrom(e|ium)\//, 'Chromium'],
  [/Safari\//, 'Safari'],
]
const SYSTEMS: [RegExp, string][] = [
  [/Android/, 'Android'],
  [/iPhone|iPad/, 'iOS'],
  [/Windows/, 'Windows'],
  [/Mac OS/, 'macOS'],
  [/Linux|X11/, 'Linux'],
]

/** The browser behind a session, as people call it. */
export function browserWords(agent: string | null | undefined): string {
  if (!agent) return 'A browser that does not say what it is'
  const found = (list: [RegExp, string][]) => list.find(([sign]) => sign.test(agent))?.[1]
  const [browser, system] = [found(BROWSERS), found(SYSTEMS)]
  if (!browser) return agent.length > 40 ? `${agent.slice(0, 40)}…` : agent
  return system ? `${browser} on ${system}` : browser
}

/** What can be said of a new password before it is sent; the service has the last word. */
export function passwordProblem(password: string, again: string): string | null {
  if ([...password].length < 10) return 'Use 10 characters or more, such as four words.'
  if (password !== again) return 'The two are not alike.'
  return null
}

/** Which entries of the audit trail are wanted; days as the browser's clock has them. */
export interface AuditFilter {
  user: string
  text: string
  outcome: string
  from: string
  to: string
}

/** The same as the service is asked: what is empty is not named, and the last day is in it. */
export function auditQuery(filter: AuditFilter): Record<string, string> {
  const start = (day: string, later = 0): string => {
    const [year, month, date] = day.slice(0, 10).split('-').map(Number) as [number, number, number]
    return new Date(year, month - 1, date + later).toISOString()
  }
  const found = {
    user: filter.user?.trim(),
    text: filter.text?.trim(),
    outcome: filter.outcome,
    from: filter.from && start(filter.from),
    to: filter.to && start(filter.to, 1),
  }
  return Object.fromEntries(Object.entries(found).filter(([, value]) => value)) as Record<string, string>
}

/** What came of something, at a glance. */
export const auditMark = (outcome: string): { mark: string; tone: string } =>
  outcome === 'done' ? { mark: '●', tone: '' } : outcome === 'refused' ? { mark: '◆', tone: 'warning' } : { mark: '▲', tone: 'warning' }
