// A field of a form, and those that several kinds of sources and channels share.

export type Keys = Record<string, unknown>
export type Value = string | string[] | boolean | Keys[]
export type Entered = Record<string, Value>

export interface Field {
  /** Where it stands among the keys: `source.sign-in.token`. */
  key: string
  title: string
  as: 'text' | 'secret' | 'number' | 'choice' | 'people' | 'dashboards' | 'formats' | 'audiences' | 'truth' | 'long' | 'zone' | 'texts' | 'named' | 'values' | 'audiences-from' | 'changes' | 'json-fields' | 'colour' | 'picture' | 'steps' | 'team' | 'teams'
  /** The kind of definition whose names are chosen from. */
  of?: string
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
  /** A secret of several lines, such as a key. */
  lines?: boolean
  /** Without it there is nothing of its table: `approval.deadline` is the approval. */
  isTable?: boolean
  /** Not asked for where the definition has this key instead. */
  unless?: string
}

export const is = (key: string, ...values: string[]) => (entered: Entered) => values.includes(String(entered[key] ?? ''))
/** Not a key: the kind of the source that a field names. */
export const kindOf = (key: string) => `#kind of ${key}`
export const given = (key: string) => (entered: Entered) => String(entered[key] ?? '').trim() !== ''
export const both = (...conditions: ((entered: Entered) => boolean)[]) => (entered: Entered) => conditions.every((one) => one(entered))
export const either = (...conditions: ((entered: Entered) => boolean)[]) => (entered: Entered) => conditions.some((one) => one(entered))
export const words = (...values: string[]) => values.map((value) => ({ value, label: value }))

export const byHttp = (table: string, ...kinds: string[]): Field[] => {
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
        ...(kinds.includes('web-page') ? [{ value: 'form', label: 'A form on the page' }] : []),
        { value: 'basic', label: 'User and password' },
        { value: 'bearer', label: 'Token' },
        { value: 'header', label: 'A header of its own' },
        ...(table === 'source' ? [{ value: 'cookie', label: 'A cookie' }] : []),
      ],
      when: reached,
    },
    { key: `${table}.sign-in.user`, title: 'User', as: 'text', needed: true, when: signsIn('basic') },
    { key: `${table}.sign-in.password`, title: 'Password', as: 'secret', needed: true, when: signsIn('basic') },
    { key: `${table}.sign-in.token`, title: 'Token', as: 'secret', needed: true, when: signsIn('bearer') },
    { key: `${table}.sign-in.name`, title: 'Name of the header or cookie', as: 'text', needed: true, when: signsIn('header', 'cookie') },
    { key: `${table}.sign-in.value`, title: 'Its value', as: 'secret', needed: true, when: signsIn('header', 'cookie') },
    { key: `${table}.sign-in.do`, title: 'What somebody does who signs in', as: 'steps', needed: true, hint: 'Fields and buttons by their words, or by selectors. A password is stored encrypted.', when: signsIn('form') },
  ]
}

/** As whom an agent is asked, or a receiver told. */
export const bySnmp = (table: string): Field[] => {
  const reached = is(`${table}.kind`, 'snmp')
  const version = (number: string) => both(reached, is(`${table}.version`, number))
  const proves = given(`${table}.authentication`)
  return [
    { key: `${table}.version`, title: 'Version', as: 'choice', needed: true, choices: [{ value: '3', label: '3: a user, with encryption' }, { value: '2c', label: '2c: a community, not encrypted' }], when: reached },
    { key: `${table}.community`, title: 'Community', as: 'secret', needed: true, when: version('2c') },
    { key: `${table}.user`, title: 'User', as: 'text', needed: true, when: version('3') },
    { key: `${table}.authentication`, title: 'Authentication', as: 'choice', choices: [{ value: '', label: 'None' }, ...words('sha256', 'sha512', 'sha1', 'md5')], when: version('3') },
    { key: `${table}.authentication-password`, title: 'Authentication password', as: 'secret', needed: true, when: both(version('3'), proves) },
    { key: `${table}.privacy`, title: 'Encryption', as: 'choice', choices: [{ value: '', label: 'None' }, ...words('aes128', 'aes256', 'des')], when: both(version('3'), proves) },
    { key: `${table}.privacy-password`, title: 'Encryption password', as: 'secret', needed: true, when: both(version('3'), proves, given(`${table}.privacy`)) },
  ]
}

/** A server of files, and as whom it is used. */
export const bySftp = (table: string): Field[] => {
  const reached = is(`${table}.kind`, 'sftp')
  const without = (key: string) => both(reached, (entered: Entered) => !given(`${table}.${key}`)(entered))
  return [
    { key: `${table}.address`, title: 'Host and port', as: 'text', needed: true, hint: 'Such as share.example.org:22.', when: reached },
    { key: `${table}.host-key`, title: 'Host key', as: 'texts', needed: true, hint: 'Its fingerprint, which begins with SHA256: and is told by ssh-keyscan HOST | ssh-keygen -lf -. Nothing is said to a host that shows another.', when: reached },
    { key: `${table}.user`, title: 'User', as: 'text', needed: true, when: reached },
    { key: `${table}.password`, title: 'Password', as: 'secret', hint: 'Either this or a private key is needed.', when: without('private-key') },
    { key: `${table}.private-key`, title: 'Private key', as: 'secret', lines: true, hint: 'Instead of a password: the whole file, from BEGIN to END.', when: without('password') },
    { key: `${table}.passphrase`, title: 'Passphrase of the key', as: 'secret', hint: 'If the key is locked.', when: both(reached, given(`${table}.private-key`)) },
  ]
}

export const name = (table: string): Field[] => [
  { key: `${table}.title`, title: 'Title', as: 'text', needed: true },
  { key: `${table}.name`, title: 'Name', as: 'text', needed: true, hint: 'Small letters, digits and hyphens, behind the team’s name and a dot if it belongs to one. It stays for good.' },
]
export const team = (table: string): Field => ({ key: `${table}.team`, title: 'Team', as: 'team', hint: 'Nobody outside it sees this, or what comes of it.' })
export const shared = (table: string): Field => ({ key: `${table}.teams`, title: 'Shared with', as: 'teams', hint: 'Only these teams use it, by its name; they do not see its settings. Everybody may if none is chosen.' })
export const labelled = (kinds: Record<string, string>) => Object.entries(kinds).map(([value, label]) => ({ value, label }))
