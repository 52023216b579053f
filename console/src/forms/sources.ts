// All that the console knows of kinds of sources: what people call them, how they are reached, what they
// are asked, and what is asked of them first.
import type { Schemas } from '../api/client'
import { isNumeric, isTimely } from '../dashboards/picks'
import { FILE_FORMATS } from '../words'
import { both, byHttp, bySftp, bySnmp, is, kindOf, labelled, name, shared, words, type Field, type Keys } from './field'

type Entry = Schemas['CatalogueEntry']
type Item = Schemas['CatalogueItem']

/** The kinds of sources that are asked in SQL: the first on a server, the last in a file. */
export const DATABASES = ['postgresql', 'mysql', 'sqlite']
export const isDatabase = (kind: string): boolean => DATABASES.includes(kind)

/** What people call the kinds of sources, in the order of choices. */
export const SOURCE_KINDS: Record<string, string> = {
  postgresql: 'PostgreSQL database',
  mysql: 'MySQL or MariaDB database',
  sqlite: 'SQLite database, a file',
  'open-metrics': 'Metrics as text (OpenMetrics)',
  'http-json': 'Service that answers in JSON',
  files: 'Files: CSV, JSON, workbooks, calendars',
  program: 'Program of the service’s machine',
  'web-page': 'Live page, as a browser shows it',
  ldap: 'Directory (LDAP)',
  snmp: 'Device or host (SNMP)',
  sftp: 'Files on another machine (SFTP)',
  'local-checks': 'Checks from this machine',
}
export const sourceKind = (kind: string): string => SOURCE_KINDS[kind] ?? kind

const server = is('source.kind', 'postgresql', 'mysql')

/** What a source is, kind by kind. */
export const SOURCE_FIELDS: Field[] = [
  {
    key: 'source.kind',
    title: 'Kind',
    as: 'choice',
    needed: true,
    choices: labelled(SOURCE_KINDS),
  },
  ...name('source'),
  shared('source'),
  { key: 'source.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as db1.example.org:5432, or :3306 for MySQL and MariaDB.', when: server },
  { key: 'source.database', title: 'Database', as: 'text', needed: true, when: server },
  { key: 'source.user', title: 'User', as: 'text', needed: true, hint: 'An account that may only read.', when: server },
  { key: 'source.password', title: 'Password', as: 'secret', when: server },
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
    when: server,
  },
  { key: 'source.file', title: 'File', as: 'text', needed: true, hint: 'In a folder that the configuration lists under sources-may-read.', when: is('source.kind', 'sqlite') },
  { key: 'source.folder', title: 'Folder', as: 'text', needed: true, hint: 'A folder that the configuration lists under sources-may-read.', when: is('source.kind', 'files') },
  { key: 'source.program', title: 'Program', as: 'text', needed: true, hint: 'By its name under [source-programs] in the configuration of the service.', when: is('source.kind', 'program') },
  { key: 'source.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as directory.example.org:636.', when: is('source.kind', 'ldap') },
  {
    key: 'source.tls',
    title: 'Encryption',
    as: 'choice',
    usual: 'tls',
    choices: [
      { value: 'tls', label: 'TLS from the start' },
      { value: 'start-tls', label: 'StartTLS' },
      { value: 'off', label: 'None (only on this machine)' },
    ],
    when: is('source.kind', 'ldap'),
  },
  { key: 'source.base', title: 'Base', as: 'text', needed: true, hint: 'The entry at or below which is searched, such as dc=example,dc=org.', when: is('source.kind', 'ldap') },
  { key: 'source.user', title: 'User', as: 'text', hint: 'The name of an entry that may only read; asked unnamed without one.', when: is('source.kind', 'ldap') },
  { key: 'source.password', title: 'Password', as: 'secret', when: is('source.kind', 'ldap') },
  { key: 'source.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as switch1.example.org:161.', when: is('source.kind', 'snmp') },
  ...bySnmp('source'),
  ...bySftp('source'),
  { key: 'source.folder', title: 'Folder', as: 'text', needed: true, hint: 'From the root of the machine, or from where its user begins.', when: is('source.kind', 'sftp') },
  ...byHttp('source', 'open-metrics', 'http-json', 'web-page'),
  { key: 'source.timeout', title: 'Time for one query', as: 'text', usual: '30 seconds', more: true },
  { key: 'source.row-limit', title: 'Rows of one query', as: 'number', usual: '100000', more: true },
  { key: 'source.max-concurrency', title: 'Queries at a time', as: 'number', usual: '4', more: true },
]

/** Checks that tell of the service's machine itself, and need no targets. */
export const OF_THIS_MACHINE = ['processor', 'memory', 'load', 'network', 'units', 'journal']

/** What a source is asked, by its kind: the keys of a query that its source understands. */
export const askOf = (table: string): Field[] => {
  const of = (...kinds: string[]) => is(kindOf(`${table}.source`), ...kinds)
  const ofFiles = of('files', 'sftp')
  return [
    { key: `${table}.sql`, title: 'SQL', as: 'long', needed: true, hint: 'Bound values: :from, :to and parameters by their names.', when: of(...DATABASES), unless: `${table}.pick` },
    { key: `${table}.metric`, title: 'Metric', as: 'texts', needed: true, when: of('open-metrics') },
    { key: `${table}.check`, title: 'Check', as: 'choice', needed: true, choices: words('tcp', 'http', 'certificate', 'dns', 'disk', ...OF_THIS_MACHINE), when: of('local-checks') },
    { key: `${table}.targets`, title: 'Targets', as: 'texts', needed: true, hint: 'Such as 127.0.0.1:5432, https://example.org/ or /var.', when: both(of('local-checks'), (entered) => !OF_THIS_MACHINE.includes(String(entered[`${table}.check`] ?? ''))) },
    { key: `${table}.targets`, title: 'Only these', as: 'texts', hint: 'Interfaces, or units by name; all if none is named.', when: both(of('local-checks'), is(`${table}.check`, 'network', 'units', 'journal')) },
    { key: `${table}.search`, title: 'Search filter', as: 'text', needed: true, hint: 'As RFC 4515 has them, such as (objectClass=person) or (l={{ port }}).', when: of('ldap') },
    { key: `${table}.base`, title: 'At or below', as: 'text', hint: 'The base of the source if nothing is said.', when: of('ldap') },
    { key: `${table}.scope`, title: 'How deep', as: 'choice', usual: 'subtree', choices: [{ value: 'subtree', label: 'The base and all below it' }, { value: 'one-level', label: 'Directly below the base' }, { value: 'base', label: 'The base alone' }], when: of('ldap') },
    { key: `${table}.objects`, title: 'Objects', as: 'texts', needed: true, hint: 'By name, such as ifDescr or sysUpTime, or by number.', when: of('snmp') },
    { key: `${table}.operation`, title: 'Rows', as: 'choice', usual: 'get', choices: [{ value: 'get', label: 'One, with a column for each object' }, { value: 'table', label: 'One for each index, with a column for each object' }, { value: 'walk', label: 'One for each instance below the objects' }], when: of('snmp') },
    { key: `${table}.path`, title: 'Path', as: 'text', needed: true, hint: 'Below the address of the source.', when: of('http-json') },
    { key: `${table}.rows`, title: 'Rows', as: 'text', needed: true, hint: 'A JSONPath (RFC 9535), such as $.items[*].', when: of('http-json') },
    { key: `${table}.field`, title: 'Columns of a row', as: 'json-fields', needed: true, when: of('http-json') },
    { key: `${table}.file`, title: 'File', as: 'text', needed: true, hint: 'Below the folder of the source; * stands for any letters.', when: ofFiles },
    { key: `${table}.format`, title: 'Format of the file', as: 'choice', usual: 'csv', choices: FILE_FORMATS, when: ofFiles },
    { key: `${table}.delimiter`, title: 'Between cells', as: 'text', usual: ',', when: both(ofFiles, is(`${table}.format`, 'csv', '')) },
    { key: `${table}.sheet`, title: 'Sheet', as: 'text', hint: 'The first if nothing is said.', when: both(ofFiles, is(`${table}.format`, 'workbook')) },
    { key: `${table}.pattern`, title: 'Pattern of a line', as: 'text', hint: 'A regular expression; its named groups are the columns.', when: both(ofFiles, is(`${table}.format`, 'lines')) },
    { key: `${table}.output`, title: 'What it prints', as: 'choice', needed: true, choices: FILE_FORMATS.slice(0, 4), when: of('program') },
    { key: `${table}.arguments`, title: 'Arguments', as: 'texts', hint: 'One for each, such as --since={{ from }}. No shell reads them.', when: of('program') },
    { key: `${table}.pattern`, title: 'Pattern of a line', as: 'text', hint: 'A regular expression; its named groups are the columns.', when: both(of('program'), is(`${table}.output`, 'lines')) },
  ]
}

const isKey = (item: Item): boolean => /(^|_)id$/.test(item.name)

/** What every source of a kind has, or what may stand in its place. */
export const USUAL: Record<string, string> = {
  postgresql: 'pg_stat_database',
  mysql: 'information_schema.tables',
  sqlite: 'sqlite_schema',
  'open-metrics': 'name_of_a_metric',
  files: '*.csv',
  sftp: '*.csv',
  'local-checks': 'disk',
  ldap: 'person',
  snmp: 'sysName',
}

/** What is asked first of something that was chosen: a sensible measure over time or by a name. */
export function begin(kind: string, entry: Entry): Keys {
  switch (kind) {
    case 'postgresql':
    case 'mysql':
    case 'sqlite': {
      const time = entry.items.find(isTimely)?.name
      const measure = entry.items.find((item) => isNumeric(item) && !isKey(item))
      const name = entry.items.find((item) => !isNumeric(item) && !isTimely(item) && !/bool/.test(item.kind))?.name
      const measures = measure ? [{ column: measure.name, with: 'mean', name: measure.name }] : [{ column: '*', with: 'count', name: 'rows' }]
      return { pick: { table: entry.name, measure: measures, ...(time ? { time, 'over-time': true } : name ? { group: [name], top: 10 } : {}) } }
    }
    case 'open-metrics':
      return { metric: entry.name }
    case 'files':
    case 'sftp':
      return { file: entry.name, ...formatOf(entry.name) }
    case 'program':
      return { output: 'csv' }
    case 'ldap':
      return { search: `(objectClass=${entry.name})` }
    case 'snmp': {
      const objects = entry.items.length ? entry.items.map((item) => item.name).slice(0, 8) : [entry.name]
      return { objects, operation: entry.kind === 'table' ? 'table' : 'get' }
    }
    case 'local-checks': {
      if (OF_THIS_MACHINE.includes(entry.name)) return { check: entry.name }
      const target: Record<string, string> = { tcp: '127.0.0.1:22', http: 'http://127.0.0.1/', certificate: 'localhost:443', dns: 'localhost', disk: '/' }
      return { check: entry.name, targets: [target[entry.name] ?? '/'] }
    }
    default:
      return { path: entry.name.startsWith('/') ? entry.name : '/', rows: '$[*]', field: [{ name: 'value', path: '$', kind: 'text' }] }
  }
}

/** What is in a file, by the end of its name; nothing is said of CSV. */
export function formatOf(file: string): { format?: string } {
  if (/\.(jsonl|ndjson)(\.gz)?$/i.test(file)) return { format: 'json-lines' }
  if (/\.json(\.gz)?$/i.test(file)) return { format: 'json' }
  if (/\.(log|txt)(\.gz)?$/i.test(file)) return { format: 'lines' }
  if (/\.(ics|ical)$/i.test(file)) return { format: 'icalendar' }
  if (/\.(xlsx|xlsm|xlsb|xls|ods)$/i.test(file)) return { format: 'workbook' }
  if (/\.parquet$/i.test(file)) return { format: 'parquet' }
  return {}
}
