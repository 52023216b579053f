// What forms ask for, kind by kind, and what is done with what was entered: a change to the
// definition's keys, in which only what differs is named.
import type { Schemas } from '../api/client'
import { CHANNEL_FIELDS } from './channels'
import { both, either, given, is, name, team, words, type Entered, type Field, type Keys, type Value } from './field'
import { askOf, SOURCE_FIELDS } from './sources'

export const FORMS: Record<string, Field[]> = {
  source: SOURCE_FIELDS,
  person: [
    ...name('person'),
    team('person'),
    { key: 'person.address', title: 'Mail address', as: 'text', needed: true },
    { key: 'person.time-zone', title: 'Time zone', as: 'zone', hint: 'Windows are told in it beside the report’s.' },
    { key: 'person.numbers', title: 'Numbers', as: 'choice', choices: [{ value: '', label: 'As the report has them' }, ...words('1,234.5', '1.234,5', '1 234,5', '1234.5')] },
    { key: 'person.dates', title: 'Dates', as: 'choice', choices: [{ value: '', label: 'As the report has them' }, ...words('22 Nov 2026', '2026-11-22')] },
    { key: 'person.user', title: 'Signs in as', as: 'text', hint: 'So that “Send to me” knows where to.', more: true },
  ],
  group: [...name('group'), team('group'), { key: 'group.members', title: 'Members', as: 'people', needed: true, hint: 'People, other groups, and mail addresses.' }],
  channel: CHANNEL_FIELDS,
  report: [
    ...name('report'),
    team('report'),
    { key: 'report.time-zone', title: 'Time zone', as: 'zone', needed: true, onlyNew: true },
    { key: 'window.previous', title: 'Window', as: 'choice', needed: true, choices: ['day', 'week', 'month'].map((value) => ({ value, label: `The previous ${value}` })), onlyNew: true },
    { key: 'report.dashboards', title: 'Dashboards', as: 'dashboards', needed: true, hint: 'In this order.', heading: 'Content' },
    { key: 'report.tags', title: 'Tags', as: 'texts', hint: 'Words by which it is found among others.' },
    { key: 'parameters', title: 'Values of parameters', as: 'values', hint: 'For everybody, unless an audience has its own.' },
    { key: 'change', title: 'Blocks that are different in this report', as: 'changes', hint: 'The dashboard itself stays as it is.' },
    { key: 'report.formats', title: 'Formats', as: 'formats', needed: true, heading: 'Formats and look' },
    { key: 'report.theme', title: 'Theme', as: 'named', of: 'theme' },
    { key: 'report.numbers', title: 'Numbers', as: 'choice', choices: [{ value: '', label: 'Usual' }, ...words('1,234.5', '1.234,5', '1 234,5', '1234.5')] },
    { key: 'report.dates', title: 'Dates', as: 'choice', choices: [{ value: '', label: 'Usual' }, ...words('22 Nov 2026', '2026-11-22')] },
    { key: 'report.interactive', title: 'HTML answers its reader', as: 'truth', hint: 'Exact values of charts, lines switched off, tables sorted and filtered. Never in mails.' },
    { key: 'files.name', title: 'Names of files', as: 'text', hint: 'Such as {{ report }}_{{ from }}.', more: true },
    { key: 'files.zip', title: 'Packed as ZIP', as: 'text', hint: '“always”, “never”, or past a size such as 10 MB.', more: true },
    { key: 'files.csv-byte-order-mark', title: 'CSV begins with a byte order mark', as: 'truth', hint: 'Some spreadsheet programs read letters beyond ASCII only with it.', more: true },
    { key: 'files.csv-formulas', title: 'Cells of CSV that look like formulas', as: 'choice', usual: 'made-safe', choices: [{ value: 'made-safe', label: 'are made safe' }, { value: 'as-they-are', label: 'stay as they are' }], more: true },
    { key: 'keep.documents', title: 'Documents are kept', as: 'text', hint: 'How long after their run, such as 2 years; as long as everywhere, if nothing is said here.', more: true },
    { key: 'keep.most-runs', title: 'Of so many runs, at most', as: 'number', more: true },
    { key: 'keep.most-megabytes', title: 'Of so many megabytes, at most', as: 'number', more: true },
    { key: 'keep.snapshots', title: 'Snapshots are kept', as: 'text', hint: 'Not shorter than documents, which can be made of them again.', more: true, when: either(given('keep.documents'), given('keep.most-runs'), given('keep.most-megabytes')) },
    { key: 'keep.records', title: 'Records of runs are kept', as: 'text', more: true, when: given('keep.snapshots') },
    { key: 'audience', title: 'Audiences', as: 'audiences', heading: 'Who gets it' },
    { key: 'audiences-from', title: 'Audiences from a query', as: 'audiences-from' },
    { key: 'message.template', title: 'Message template', as: 'named', of: 'message-template', hint: 'What is entered below takes its place.', heading: 'Message' },
    { key: 'message.subject', title: 'Subject', as: 'text', hint: 'Values stand in braces: {{ report.title }}, {{ window.label }}, {{ status }}.' },
    { key: 'message.text', title: 'Message', as: 'long', hint: 'What stands above the figures in the mail.' },
    { key: 'deliver.body', title: 'The mail shows', as: 'choice', usual: 'summary', choices: [{ value: 'summary', label: 'First figures and first chart' }, { value: 'full', label: 'Everything' }, { value: 'text', label: 'The message alone' }] },
    { key: 'deliver.attach', title: 'Attached', as: 'formats', hint: 'All formats, unless some are chosen.' },
    { key: 'deliver.link', title: 'The link leads to', as: 'choice', usual: 'console', choices: [{ value: 'console', label: 'the console, after signing in' }, { value: 'signed', label: 'the documents, for whoever has the mail' }, { value: 'none', label: 'nothing: no link' }] },
    { key: 'deliver.link-valid', title: 'Valid for', as: 'text', usual: '14 days', when: is('deliver.link', 'signed') },
    { key: 'deliver.mail-server', title: 'Mail server', as: 'named', of: 'channel', hint: 'The service’s own, if none is chosen.' },
    { key: 'deliver.unsubscribe', title: 'Recipients may unsubscribe', as: 'truth' },
    {
      key: 'send.when',
      title: 'Send',
      as: 'choice',
      usual: 'always',
      choices: [{ value: 'always', label: 'Always' }, { value: 'warning', label: 'When something is a warning or worse' }, { value: 'critical', label: 'When something is critical' }, { value: 'rows', label: 'When certain queries have rows' }, { value: 'figures', label: 'By figures' }, { value: 'change', label: 'When a figure has changed' }],
      heading: 'When it is worth sending',
    },
    { key: 'send.queries', title: 'Queries that must have rows', as: 'texts', needed: true, when: is('send.when', 'rows') },
    { key: 'send.figures', title: 'Figures', as: 'texts', needed: true, hint: 'Such as share_failed >= 60; Enter ends each.', when: is('send.when', 'figures') },
    { key: 'send.match', title: 'It is enough if', as: 'choice', usual: 'any', choices: [{ value: 'any', label: 'one holds' }, { value: 'all', label: 'all hold' }], when: is('send.when', 'figures') },
    { key: 'send.confirm-quiet', title: 'Say when there was nothing to send', as: 'truth', when: is('send.when', 'warning', 'critical', 'rows', 'figures', 'change') },
    { key: 'approval.deadline', title: 'Somebody approves it within', as: 'text', usual: '1 day', hint: 'If this is empty, nobody has to.', heading: 'Approval and readiness', isTable: true },
    { key: 'approval.at-deadline', title: 'If nobody does', as: 'choice', usual: 'cancel', choices: [{ value: 'cancel', label: 'It is not sent' }, { value: 'send', label: 'It is sent' }], when: given('approval.deadline') },
    { key: 'readiness.source', title: 'Waits until data of this source is there', as: 'named', of: 'source', isTable: true },
    ...askOf('readiness').map((field) => ({ ...field, when: both(given('readiness.source'), field.when!) })),
    { key: 'readiness.ready-when', title: 'Ready when', as: 'choice', usual: 'true', choices: [{ value: 'true', label: 'the answer is true' }, { value: 'rows', label: 'the answer has a row' }], when: given('readiness.source') },
    { key: 'readiness.column', title: 'In this column of every row', as: 'text', hint: 'Such as ok, of checks. The first value decides if this is empty.', when: both(given('readiness.source'), is('readiness.ready-when', 'true')) },
    { key: 'readiness.every', title: 'Asked every', as: 'text', usual: '1 minute', when: given('readiness.source') },
    { key: 'readiness.deadline', title: 'Waits at most', as: 'text', usual: '1 hour', when: given('readiness.source') },
    { key: 'readiness.at-deadline', title: 'And then', as: 'choice', usual: 'hold', choices: [{ value: 'hold', label: 'It is held, and the owner hears of it' }, { value: 'run', label: 'It runs all the same' }, { value: 'skip', label: 'It is left out' }], when: given('readiness.source') },
    { key: 'report.owner', title: 'Owner', as: 'text', hint: 'Who hears of failures: an address, or Name <address>.', heading: 'What happens on failure' },
    { key: 'report.on-failed-block', title: 'If a block fails', as: 'choice', usual: 'hold', choices: [{ value: 'hold', label: 'Hold it back until somebody releases it' }, { value: 'send', label: 'Send it, with the failure in its place' }] },
    { key: 'report.time-limit', title: 'Time for one run', as: 'text', usual: '1 hour', more: true },
    { key: 'report.overlap', title: 'Runs may overlap', as: 'truth' },
    { key: 'deliver.retry-for', title: 'Tries to deliver for', as: 'text', usual: '1 day', more: true },
    { key: 'deliver.late-after', title: 'Late after', as: 'text', usual: '1 hour', hint: 'Owners hear of it.', more: true },
    { key: 'deliver.max-size', title: 'Largest message', as: 'text', usual: '20 MB', hint: 'What does not fit is left to the link.', more: true },
  ],
  sampler: [
    ...name('sampler'),
    team('sampler'),
    { key: 'query.source', title: 'Source', as: 'named', of: 'source', needed: true },
    { key: 'sampler.every', title: 'Asked every', as: 'text', needed: true, hint: 'Such as 5 minutes.' },
    { key: 'sampler.keep', title: 'Kept for', as: 'text', usual: '90 days' },
    ...askOf('query'),
    { key: 'sampler.downsample.after', title: 'Thinned out after', as: 'text', hint: 'Such as 14 days. If this is empty, every answer is kept.', isTable: true },
    { key: 'sampler.downsample.to', title: 'To one answer every', as: 'text', usual: '1 hour', when: given('sampler.downsample.after') },
    { key: 'sampler.downsample.with', title: 'Which is', as: 'choice', usual: 'last', choices: [{ value: 'last', label: 'the last' }, { value: 'mean', label: 'the mean' }], when: given('sampler.downsample.after') },
  ],
  theme: [
    ...name('theme'),
    team('theme'),
    { key: 'theme.organisation', title: 'Organisation', as: 'text' },
    { key: 'theme.logo', title: 'Logo', as: 'picture', hint: 'PNG, JPEG or SVG.' },
    { key: 'theme.accent', title: 'Accent', as: 'colour' },
    { key: 'theme.paper', title: 'Paper', as: 'choice', usual: 'a4', choices: [{ value: 'a4', label: 'A4' }, { value: 'letter', label: 'Letter' }] },
    { key: 'theme.orientation', title: 'Orientation', as: 'choice', usual: 'portrait', choices: words('portrait', 'landscape') },
    { key: 'theme.mode', title: 'Colours', as: 'choice', usual: 'light', choices: words('light', 'dark') },
    { key: 'theme.density', title: 'Density', as: 'choice', usual: 'comfortable', choices: words('comfortable', 'compact') },
    { key: 'theme.header', title: 'Header', as: 'text' },
    { key: 'theme.footer', title: 'Footer', as: 'text' },
    { key: 'theme.cover', title: 'A cover', as: 'truth' },
    { key: 'theme.contents', title: 'A list of contents', as: 'truth' },
    { key: 'theme.sections-on-new-pages', title: 'Each section on a new page', as: 'truth' },
    { key: 'theme.two-across', title: 'Charts two beside each other', as: 'truth' },
  ],
  'message-template': [
    ...name('message-template'),
    team('message-template'),
    { key: 'message-template.subject', title: 'Subject', as: 'text', hint: 'Values stand in braces: {{ report.title }}, {{ window.label }}, {{ status }}, {{ summary }}.' },
    { key: 'message-template.text', title: 'Message', as: 'long' },
  ],
}

/** The fields that are asked for at the moment. */
export const asked = (fields: Field[], entered: Entered): Field[] => fields.filter((field) => field.when?.(entered) ?? true)

/** The fields of a kind, of a definition that is made or one that is there. */
export const fieldsOf = (kind: string, fresh: boolean): Field[] => (FORMS[kind] ?? []).filter((field) => fresh || !field.onlyNew)

/** Without teams nobody is asked for one, unless there is one already. */
export const withTeams = (fields: Field[], teams: string[], keys: Keys): Field[] => fields.filter((field) => !['team', 'teams'].includes(field.as) || teams.length > 0 || valueAt(keys, field.key) !== undefined)

/** Without those in whose place the definition has another key. */
export const withoutOthers = (fields: Field[], keys: Keys): Field[] => fields.filter((field) => !field.unless || valueAt(keys, field.unless) === undefined)

/** The fields under one heading; all of them without one. */
export function partOf(fields: Field[], heading?: string): Field[] {
  if (!heading) return fields
  let under: string | undefined
  return fields.filter((field) => (under = field.heading ?? under) === heading)
}

/** What keys are after a merge patch (RFC 7396). */
export function merged(keys: Keys, patch: Keys): Keys {
  const made: Keys = { ...keys }
  for (const [key, value] of Object.entries(patch)) {
    const old = made[key]
    if (value === null) delete made[key]
    else if (typeof value === 'object' && !Array.isArray(value)) made[key] = merged(old && typeof old === 'object' && !Array.isArray(old) ? (old as Keys) : {}, value as Keys)
    else made[key] = value
  }
  return made
}

export function valueAt(keys: Keys, key: string): unknown {
  return key.split('.').reduce<unknown>((table, part) => (table && typeof table === 'object' ? (table as Keys)[part] : undefined), keys)
}

/** Fields whose value is a list of tables. */
const TABLES: Field['as'][] = ['audiences', 'audiences-from', 'changes', 'json-fields', 'steps']

/** A table that is there, but for the key that stands for it: `[approval]` alone means the usual time. */
const usualOfTable = (field: Field, keys: Keys) => (field.isTable && valueAt(keys, field.key.split('.').slice(0, -1).join('.')) !== undefined ? field.usual : undefined)

/** What a definition says, as a form shows it. */
export function entered(fields: Field[], keys: Keys): Entered {
  const found: Entered = {}
  for (const field of fields) {
    const value = valueAt(keys, field.key)
    // What is usual is said by the first of those that share a key, until another of them is asked for.
    if (value === undefined && field.key in found) continue
    if (TABLES.includes(field.as)) found[field.key] = JSON.parse(JSON.stringify(Array.isArray(value) ? value : [])) as Keys[]
    else if (field.as === 'values') found[field.key] = [JSON.parse(JSON.stringify(value ?? {})) as Keys]
    else if (['people', 'dashboards', 'formats', 'texts', 'teams'].includes(field.as)) found[field.key] = Array.isArray(value) ? value.map(String) : value === undefined ? [] : [String(value)]
    else if (field.as === 'truth') found[field.key] = value === true
    else found[field.key] = value === undefined ? (field.as === 'choice' ? (field.usual ?? '') : (usualOfTable(field, keys) ?? '')) : String(value)
  }
  return found
}

/** What is usual of fields that are asked for now, where another that shares their key was asked for before. */
export function usualNow(fields: Field[], values: Entered): Entered {
  const changed: Entered = {}
  for (const field of asked(fields, values)) {
    const value = values[field.key]
    const own = field.choices?.some((choice) => choice.value === value) ?? true
    const left = fields.some((other) => other !== field && other.key === field.key && other.usual === value)
    if (!own && left) changed[field.key] = field.usual ?? ''
  }
  return changed
}

const blank = (value: Value | undefined) => value === '' || value === undefined || value === false || (Array.isArray(value) && !value.length) || (typeof value === 'string' && !value.trim())

/** The titles of fields that must be filled in and are not. */
export const missing = (fields: Field[], values: Entered): string[] =>
  asked(fields, values)
    .filter((field) => field.needed && blank(values[field.key] ?? ''))
    .map((field) => field.title)

const typed = (field: Field, value: Value): unknown => {
  if (field.as === 'values') {
    const kept = Object.entries((value as Keys[])[0] ?? {}).filter(([, one]) => one !== '' && one !== null && !(Array.isArray(one) && !one.length))
    return kept.length ? Object.fromEntries(kept) : null
  }
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
  const gone: string[][] = []
  const now = asked(fields, values)
  const [open, keys] = [new Set(now), new Set(now.map((field) => field.key))]
  for (const field of fields) {
    // Fields may share a key; the one that is asked for says what it is.
    if (!open.has(field) && keys.has(field.key)) continue
    const value = values[field.key] ?? ''
    const usual = field.usual !== undefined && value === field.usual && valueAt(before, field.key) === undefined && (!field.isTable || usualOfTable(field, before) !== undefined)
    const wanted = open.has(field) && !blank(value) && !usual ? typed(field, value) : null
    const old = valueAt(before, field.key) ?? null
    const table = field.key.split('.').slice(0, -1)
    if (field.isTable && blank(value) && valueAt(before, table.join('.')) !== undefined) gone.push(table)
    // One text may stand for a list of one.
    const alike = Array.isArray(wanted) && typeof old === 'string' && wanted.length === 1 && wanted[0] === old
    if (!alike && JSON.stringify(wanted) !== JSON.stringify(old)) put(patch, field.key.split('.'), field.as === 'values' ? replaced(old, wanted) : wanted)
  }
  for (const table of gone) put(patch, table, null)
  return patch
}

/** A table that takes the place of another: in a merge patch, what goes is null. */
function replaced(old: unknown, wanted: unknown): unknown {
  if (!wanted || !old || typeof old !== 'object') return wanted
  return { ...Object.fromEntries(Object.keys(old).map((key) => [key, null])), ...(wanted as Keys) }
}

function put(table: Keys, path: string[], value: unknown) {
  const [first, ...rest] = path as [string, ...string[]]
  if (!rest.length) table[first] = value
  else put((table[first] ??= {}) as Keys, rest, value)
}

/** A name in a team's name space: `daily` of the team `port` is `port.daily`. */
export const inNameSpace = (team: string | undefined, name: string): string => (team && name && !name.includes('.') ? `${team}.${name}` : name)

/** What a definition is called whose file the service has named after it. */
export const nameIn = (file: string): string => file.replace(/^.*\//, '').replace(/\.toml$/, '')

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

/** Whether what a step fills in must be seen by nobody. */
export const isSecretStep = (step: Keys): boolean => /pass|secret|token|code|pin/i.test(String(step.fill ?? ''))

/** What a secret that is entered for a field is stored as: `source-ferry-operations-password`. */
export const secretName = (definition: string, key: string): string => `${key.split('.')[0]}-${definition.replaceAll('.', '-')}-${key.split('.').pop()}`

/** What is wrong, beside the fields that it is about; the rest has no field here. */
export function beside(fields: Field[], problems: Schemas['FileProblem'][]): { at: Record<string, string>; rest: string[] } {
  const at: Record<string, string> = {}
  const rest: string[] = []
  for (const problem of problems) {
    const key = problem.missing?.key ?? problem.key
    const field = fields.find((one) => key === one.key || key.startsWith(`${one.key}[`))
    // Whoever sees the field needs not be told its key.
    const words = problem.missing && problem.message.startsWith('the key ') ? 'This is needed.' : problem.message
    if (field) at[field.key] = at[field.key] ? `${at[field.key]} ${words}` : words
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
