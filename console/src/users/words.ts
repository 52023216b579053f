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

/** Whether somebody can sign in, at a glance. */
export function userState(user: Pick<Entry, 'disabled_at' | 'has_password' | 'invited_until'>): StateWords {
  if (user.disabled_at) return { mark: '◇', word: 'Disabled', tone: 'quiet' }
  if (user.has_password) return { mark: '●', word: 'Active', tone: 'ok' }
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
