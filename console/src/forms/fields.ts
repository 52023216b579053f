// What forms ask for, kind by kind, and what is done with what was entered: a change to the
// definition's keys, in which only what differs is named.
import type { Schemas } from '../api/client'

export type Keys = Record<string, unknown>
export type Value = string | string[] | boolean | Keys[]
export type Entered = Record<string, Value>

export interface Field {
  /** Where it stands among the keys: `source.sign-in.token`. */
  key: string
  title: string
  as: 'text' | 'secret' | 'number' | 'choice' | 'people' | 'dashboards' | 'formats' | 'audiences' | 'truth' | 'long' | 'zone'
  choices?: { value: string; label: string }[]
  /** What is so if nothing is entered. */
  usual?: string
  hint?: string
  needed?: boolean
  /** Only where other fields say so. */
  when?: (entered: Entered) => boolean
  /** Behind “More settings”. */
  more?: boolean
  /** The heading that it stands under, until the next one. */
  heading?: string
  /** Asked for only when the definition is made; later it has a page of its own. */
  onlyNew?: boolean
}

const is = (key: string, ...values: string[]) => (entered: Entered) => values.includes(String(entered[key] ?? ''))
const both = (...conditions: ((entered: Entered) => boolean)[]) => (entered: Entered) => conditions.every((one) => one(entered))
const words = (...values: string[]) => values.map((value) => ({ value, label: value }))

const byHttp = (table: string, ...kinds: string[]): Field[] => {
  const reached = is(`${table}.kind`, ...kinds)
  const signsIn = (...ways: string[]) => both(reached, is(`${table}.sign-in.kind`, ...ways))
  return [
    { key: `${table}.url`, title: 'Address', as: 'text', needed: true, hint: 'With http:// or https://.', when: reached },
    {
      key: `${table}.sign-in.kind`,
      title: 'Sign-in',
      as: 'choice',
      choices: [
        { value: '', label: 'None' },
        { value: 'basic', label: 'User and password' },
        { value: 'bearer', label: 'Token' },
        { value: 'header', label: 'A header of its own' },
      ],
      when: reached,
    },
    { key: `${table}.sign-in.user`, title: 'User', as: 'text', needed: true, when: signsIn('basic') },
    { key: `${table}.sign-in.password`, title: 'Password', as: 'secret', needed: true, when: signsIn('basic') },
    { key: `${table}.sign-in.token`, title: 'Token', as: 'secret', needed: true, when: signsIn('bearer') },
    { key: `${table}.sign-in.name`, title: 'Name of the header', as: 'text', needed: true, when: signsIn('header') },
    { key: `${table}.sign-in.value`, title: 'Its value', as: 'secret', needed: true, when: signsIn('header') },
  ]
}

const name = (table: string): Field[] => [
  { key: `${table}.title`, title: 'Title', as: 'text', needed: true },
  { key: `${table}.name`, title: 'Name', as: 'text', needed: true, hint: 'Small letters, digits and hyphens. It stays for good.' },
]
const postgresql = is('source.kind', 'postgresql')
const mail = is('channel.kind', 'mail-server')

export const FORMS: Record<string, Field[]> = {
  source: [
    {
      key: 'source.kind',
      title: 'Kind',
      as: 'choice',
      needed: true,
      choices: [
        { value: 'postgresql', label: 'PostgreSQL database' },
        { value: 'open-metrics', label: 'Metrics as text (OpenMetrics)' },
        { value: 'http-json', label: 'Service that answers in JSON' },
        { value: 'files', label: 'CSV or JSON Lines files' },
        { value: 'local-checks', label: 'Checks from this machine' },
      ],
    },
    ...name('source'),
    { key: 'source.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as db1.example.org:5432.', when: postgresql },
    { key: 'source.database', title: 'Database', as: 'text', needed: true, when: postgresql },
    { key: 'source.user', title: 'User', as: 'text', needed: true, hint: 'A role that may only read.', when: postgresql },
    { key: 'source.password', title: 'Password', as: 'secret', when: postgresql },
    {
      key: 'source.tls',
      title: 'Encryption',
      as: 'choice',
      usual: 'verify-full',
      choices: [
        { value: 'verify-full', label: 'Required, certificate checked' },
        { value: 'require', label: 'Required' },
        { value: 'off', label: 'None (only on this machine)' },
      ],
      when: postgresql,
    },
    { key: 'source.folder', title: 'Folder', as: 'text', needed: true, hint: 'A folder that the configuration lists under sources-may-read.', when: is('source.kind', 'files') },
    ...byHttp('source', 'open-metrics', 'http-json'),
    { key: 'source.timeout', title: 'Time for one query', as: 'text', usual: '30 seconds', more: true },
    { key: 'source.row-limit', title: 'Rows of one query', as: 'number', usual: '100000', more: true },
    { key: 'source.max-concurrency', title: 'Queries at a time', as: 'number', usual: '4', more: true },
  ],
  person: [
    ...name('person'),
    { key: 'person.address', title: 'Mail address', as: 'text', needed: true },
    { key: 'person.time-zone', title: 'Time zone', as: 'zone', hint: 'Windows are told in it beside the report’s.' },
    { key: 'person.numbers', title: 'Numbers', as: 'choice', choices: [{ value: '', label: 'As the report has them' }, ...words('1,234.5', '1.234,5', '1 234,5', '1234.5')] },
    { key: 'person.dates', title: 'Dates', as: 'choice', choices: [{ value: '', label: 'As the report has them' }, ...words('22 Nov 2026', '2026-11-22')] },
    { key: 'person.user', title: 'Signs in as', as: 'text', hint: 'So that “Send to me” knows where to.', more: true },
  ],
  group: [...name('group'), { key: 'group.members', title: 'Members', as: 'people', needed: true, hint: 'People, other groups, and mail addresses.' }],
  channel: [
    {
      key: 'channel.kind',
      title: 'Kind',
      as: 'choice',
      needed: true,
      choices: [
        { value: 'mail-server', label: 'Mail server' },
        { value: 'folder', label: 'Folder of this machine' },
        { value: 'upload', label: 'Upload by HTTP (WebDAV)' },
        { value: 'webhook', label: 'Web hook' },
        { value: 'syslog', label: 'Syslog' },
      ],
    },
    ...name('channel'),
    { key: 'channel.host', title: 'Host', as: 'text', needed: true, when: mail },
    { key: 'channel.port', title: 'Port', as: 'number', when: mail },
    { key: 'channel.tls', title: 'Encryption', as: 'choice', usual: 'starttls', choices: [{ value: 'starttls', label: 'STARTTLS' }, { value: 'tls', label: 'TLS from the start' }, { value: 'off', label: 'None' }], when: mail },
    { key: 'channel.from', title: 'Sender', as: 'text', needed: true, hint: 'Such as Reports <reports@example.org>.', when: mail },
    { key: 'channel.sign-in.kind', title: 'Sign-in', as: 'choice', choices: [{ value: '', label: 'None' }, { value: 'password', label: 'User and password' }, { value: 'token', label: 'User and token' }], when: mail },
    { key: 'channel.sign-in.user', title: 'User', as: 'text', needed: true, when: both(mail, is('channel.sign-in.kind', 'password', 'token')) },
    { key: 'channel.sign-in.password', title: 'Password', as: 'secret', needed: true, when: both(mail, is('channel.sign-in.kind', 'password')) },
    { key: 'channel.sign-in.token', title: 'Token', as: 'secret', needed: true, when: both(mail, is('channel.sign-in.kind', 'token')) },
    { key: 'channel.folder', title: 'Folder', as: 'text', needed: true, hint: 'A folder that the configuration lists under deliver-into.', when: is('channel.kind', 'folder') },
    { key: 'channel.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as log.example.org:514.', when: is('channel.kind', 'syslog') },
    { key: 'channel.protocol', title: 'Protocol', as: 'choice', usual: 'udp', choices: words('udp', 'tcp'), when: is('channel.kind', 'syslog') },
    ...byHttp('channel', 'upload', 'webhook'),
    { key: 'channel.max-concurrency', title: 'Deliveries at a time', as: 'number', usual: '4', more: true },
    { key: 'channel.rate-per-minute', title: 'Deliveries a minute, at most', as: 'number', more: true },
  ],
  report: [
    ...name('report'),
    { key: 'report.owner', title: 'Owner', as: 'text', hint: 'Who hears of failures: an address, or Name <address>.' },
    { key: 'report.time-zone', title: 'Time zone', as: 'zone', needed: true, onlyNew: true },
    { key: 'window.previous', title: 'Window', as: 'choice', needed: true, choices: ['day', 'week', 'month'].map((value) => ({ value, label: `The previous ${value}` })), onlyNew: true },
    { key: 'report.dashboards', title: 'Dashboards', as: 'dashboards', needed: true, hint: 'In this order.', heading: 'Content' },
    { key: 'report.formats', title: 'Formats', as: 'formats', needed: true },
    { key: 'audience', title: 'Audiences', as: 'audiences', heading: 'Who gets it' },
    { key: 'message.subject', title: 'Subject', as: 'text', hint: 'Values stand in braces: {{ report.title }}, {{ window.label }}, {{ status }}.', heading: 'Message' },
    { key: 'message.text', title: 'Message', as: 'long', hint: 'What stands above the figures in the mail.' },
    { key: 'deliver.body', title: 'The mail shows', as: 'choice', usual: 'summary', choices: [{ value: 'summary', label: 'First figures and first chart' }, { value: 'full', label: 'Everything' }, { value: 'text', label: 'The message alone' }] },
    { key: 'deliver.unsubscribe', title: 'Recipients may unsubscribe', as: 'truth' },
    {
      key: 'send.when',
      title: 'Send',
      as: 'choice',
      usual: 'always',
      choices: [{ value: 'always', label: 'Always' }, { value: 'warning', label: 'When something is a warning or worse' }, { value: 'critical', label: 'When something is critical' }, { value: 'rows', label: 'When certain queries have rows' }, { value: 'figures', label: 'By figures' }, { value: 'change', label: 'When a figure has changed' }],
      heading: 'When it is worth sending',
    },
    { key: 'report.on-failed-block', title: 'If a block fails', as: 'choice', usual: 'hold', choices: [{ value: 'hold', label: 'Hold it back until somebody releases it' }, { value: 'send', label: 'Send it, with the failure in its place' }] },
    { key: 'report.time-limit', title: 'Time for one run', as: 'text', usual: '1 hour', more: true },
    { key: 'deliver.late-after', title: 'Late after', as: 'text', hint: 'Owners hear of it, such as 30 minutes.', more: true },
  ],
  'message-template': [
    ...name('message-template'),
    { key: 'message-template.subject', title: 'Subject', as: 'text', hint: 'Values stand in braces: {{ report.title }}, {{ window.label }}, {{ status }}, {{ summary }}.' },
    { key: 'message-template.text', title: 'Message', as: 'long' },
  ],
}

/** The fields that are asked for at the moment. */
export const asked = (fields: Field[], entered: Entered): Field[] => fields.filter((field) => field.when?.(entered) ?? true)

/** The fields of a kind, of a definition that is made or one that is there. */
export const fieldsOf = (kind: string, fresh: boolean): Field[] => (FORMS[kind] ?? []).filter((field) => fresh || !field.onlyNew)

export function valueAt(keys: Keys, key: string): unknown {
  return key.split('.').reduce<unknown>((table, part) => (table && typeof table === 'object' ? (table as Keys)[part] : undefined), keys)
}

/** What a definition says, as a form shows it. */
export function entered(fields: Field[], keys: Keys): Entered {
  const found: Entered = {}
  for (const field of fields) {
    const value = valueAt(keys, field.key)
    if (field.as === 'audiences') found[field.key] = JSON.parse(JSON.stringify(Array.isArray(value) ? value : [])) as Keys[]
    else if (['people', 'dashboards', 'formats'].includes(field.as)) found[field.key] = Array.isArray(value) ? value.map(String) : value === undefined ? [] : [String(value)]
    else if (field.as === 'truth') found[field.key] = value === true
    else found[field.key] = value === undefined ? (field.usual && field.as === 'choice' ? field.usual : '') : String(value)
  }
  return found
}

const blank = (value: Value | undefined) => value === '' || value === undefined || value === false || (Array.isArray(value) && !value.length) || (typeof value === 'string' && !value.trim())

/** The titles of fields that must be filled in and are not. */
export const missing = (fields: Field[], values: Entered): string[] =>
  asked(fields, values)
    .filter((field) => field.needed && blank(values[field.key] ?? ''))
    .map((field) => field.title)

const typed = (field: Field, value: Value): unknown => {
  if (typeof value !== 'string') return value
  const text = value.trim()
  return field.as === 'number' && text !== '' && Number.isFinite(Number(text)) ? Number(text) : field.as === 'long' ? value : text
}

/**
 * The change from what there was to what is entered, as a JSON merge patch: fields that are not
 * asked for any more go, and what is as before is not named.
 */
export function patchOf(fields: Field[], values: Entered, before: Keys): Keys {
  const patch: Keys = {}
  const open = new Set(asked(fields, values).map((field) => field.key))
  for (const field of fields) {
    // Two fields may share a key; the one that is asked for says what it is.
    if (!open.has(field.key) && fields.some((other) => other !== field && other.key === field.key && open.has(other.key))) continue
    const value = values[field.key] ?? ''
    const usual = field.usual !== undefined && value === field.usual && valueAt(before, field.key) === undefined
    const wanted = open.has(field.key) && !blank(value) && !usual ? typed(field, value) : null
    const old = valueAt(before, field.key) ?? null
    if (JSON.stringify(wanted) !== JSON.stringify(old)) put(patch, field.key.split('.'), wanted)
  }
  return patch
}

function put(table: Keys, path: string[], value: unknown) {
  const [first, ...rest] = path as [string, ...string[]]
  if (!rest.length) table[first] = value
  else put((table[first] ??= {}) as Keys, rest, value)
}

/** A name that a title suggests: `Ferry operations` is `ferry-operations`. */
export const nameOf = (title: string): string =>
  title
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 60)

/** Whether a text refers to a secret, instead of being one. */
export const isReference = (text: string): boolean => /^(env|file|secret|command):\S/.test(text.trim())

/** What a secret that is entered for a field is stored as: `source-ferry-operations-password`. */
export const secretName = (definition: string, key: string): string => `${key.split('.')[0]}-${definition}-${key.split('.').pop()}`

/** What is wrong, beside the fields that it is about; the rest has no field here. */
export function beside(fields: Field[], problems: Schemas['FileProblem'][]): { at: Record<string, string>; rest: string[] } {
  const at: Record<string, string> = {}
  const rest: string[] = []
  for (const problem of problems) {
    const field = fields.find((one) => problem.key === one.key || problem.key?.startsWith(`${one.key}[`))
    if (field) at[field.key] = at[field.key] ? `${at[field.key]} ${problem.message}` : problem.message
    else rest.push(problem.key ? `${problem.key}: ${problem.message}` : problem.message)
  }
  return { at, rest }
}

/**
 * What was entered before a reload. What was entered over another text than the one that is
 * stored by now is no draft any more: it would undo what somebody else has saved.
 */
export function draftOf(kept: string | null, basedOn: string | undefined): Entered {
  try {
    const found = JSON.parse(kept ?? 'null') as { basedOn?: string; values?: Entered } | null
    return found?.values && found.basedOn === basedOn ? found.values : {}
  } catch {
    return {}
  }
}
