import { describe, expect, it } from 'vitest'

import { kindOf } from '../src/forms/field'
import { asked, beside, draftOf, entered, fieldsOf, FORMS, inNameSpace, isReference, merged, missing, nameIn, nameOf, partOf, patchOf, secretName, withoutOthers, withTeams, usualNow } from '../src/forms/fields'

const source = FORMS.source!
const titles = (values: Record<string, string>) => asked(source, values).map((field) => field.title)
const database = { source: { kind: 'postgresql', name: 'shop', title: 'Shop', address: 'db1:5432', database: 'shop', user: 'reader', password: 'secret:shop-password', extra: 1 } }

describe('a form of a definition', () => {
  it('asks for what its kind has, and no more', () => {
    expect(titles({})).toEqual(['Kind', 'Title', 'Name', 'Shared with', 'Time for one query', 'Rows of one query', 'Queries at a time'])
    expect(titles({ 'source.kind': 'postgresql' })).toContain('Database')
    const token = titles({ 'source.kind': 'open-metrics', 'source.sign-in.kind': 'bearer' })
    expect(token).toContain('Token')
    expect(token).not.toContain('Database')
    expect(token).not.toContain('User')
  })

  it('asks for a team where there are teams, or where one is named already', () => {
    const about = (teams: string[], keys: object) => withTeams(FORMS.person!, teams, keys as never).some((field) => field.title === 'Team')
    expect(about([], {})).toBe(false)
    expect(about(['port'], {})).toBe(true)
    expect(about([], { person: { team: 'port' } })).toBe(true)
    expect(entered(FORMS.source!, { source: { teams: ['port'] } })['source.teams']).toEqual(['port'])
    expect(patchOf(FORMS.person!, { ...entered(FORMS.person!, { person: { name: 'ann', team: 'port' } }), 'person.team': '' }, { person: { name: 'ann', team: 'port' } })).toEqual({ person: { team: null } })
  })

  it('shows what a definition says, and what is usual where it says nothing', () => {
    const found = entered(source, database)
    expect(found['source.address']).toBe('db1:5432')
    expect(found['source.tls']).toBe('verify-full')
    expect(found['source.timeout']).toBe('')
    expect(entered(FORMS.group!, { group: { members: ['a', 'b'] } })['group.members']).toEqual(['a', 'b'])
    expect(entered(FORMS.group!, { group: { members: 'a' } })['group.members']).toEqual(['a'])
  })

  it('changes only what was changed, and leaves alone what it does not show', () => {
    const values = entered(source, database)
    expect(patchOf(source, values, database)).toEqual({})
    expect(patchOf(source, { ...values, 'source.title': ' Shops ', 'source.row-limit': '500' }, database)).toEqual({ source: { title: 'Shops', 'row-limit': 500 } })
    expect(patchOf(source, { ...values, 'source.password': '' }, database)).toEqual({ source: { password: null } })
  })

  it('takes away what another kind does not have', () => {
    const patch = patchOf(source, { ...entered(source, database), 'source.kind': 'local-checks' }, database)
    expect(patch).toEqual({ source: { kind: 'local-checks', address: null, database: null, user: null, password: null } })
  })

  it('asks whom a directory and an agent know', () => {
    const keys = (values: Record<string, string>) => asked(source, values).map((field) => field.key)
    expect(keys({ 'source.kind': 'ldap' })).toEqual(expect.arrayContaining(['source.address', 'source.tls', 'source.base', 'source.user', 'source.password']))
    const agent = { 'source.kind': 'snmp', 'source.version': '2c' }
    expect(keys(agent)).toContain('source.community')
    expect(keys(agent)).not.toContain('source.user')
    // What is usual of a database's encryption is none of a directory's.
    const ldap = { ...entered(source, {}), 'source.kind': 'ldap', 'source.title': 'People', 'source.name': 'people', 'source.address': 'd:636', 'source.base': 'dc=x' }
    expect(usualNow(source, ldap)).toEqual({ 'source.tls': 'tls' })
    expect(usualNow(source, { ...ldap, 'source.tls': 'start-tls' })).toEqual({})
    expect(patchOf(source, { ...ldap, 'source.tls': 'tls' }, {})).toEqual({ source: { kind: 'ldap', title: 'People', name: 'people', address: 'd:636', base: 'dc=x' } })
    const named = { ...agent, 'source.version': '3', 'source.authentication': 'sha256' }
    expect(keys(named)).toEqual(expect.arrayContaining(['source.user', 'source.authentication-password', 'source.privacy']))
    expect(keys(named)).not.toContain('source.privacy-password')
    const values = { ...entered(source, {}), ...named, 'source.title': 'Switch', 'source.name': 'switch-1', 'source.address': 'switch1:161', 'source.user': 'reader', 'source.authentication-password': 'secret:switch' }
    expect(patchOf(source, values, {})).toEqual({ source: { kind: 'snmp', title: 'Switch', name: 'switch-1', address: 'switch1:161', version: '3', user: 'reader', authentication: 'sha256', 'authentication-password': 'secret:switch' } })
  })

  it('asks for another machine as it is reached by SFTP, and for whoever watches by SNMP', () => {
    const channel = fieldsOf('channel', true)
    const keys = (values: Record<string, string>) => asked(channel, values).map((field) => field.key)
    const sftp = { 'channel.kind': 'sftp' }
    expect(keys(sftp)).toEqual(expect.arrayContaining(['channel.address', 'channel.host-key', 'channel.user', 'channel.password', 'channel.private-key', 'channel.folder']))
    expect(keys({ ...sftp, 'channel.private-key': 'secret:k' })).toContain('channel.passphrase')
    // One of them is enough.
    expect(keys({ ...sftp, 'channel.private-key': 'secret:k' })).not.toContain('channel.password')
    expect(keys({ ...sftp, 'channel.password': 'secret:p' })).not.toContain('channel.private-key')
    const values = { ...entered(channel, {}), ...sftp, 'channel.title': 'Share', 'channel.name': 'share', 'channel.address': 's:22', 'channel.host-key': ['SHA256:a'], 'channel.user': 'u', 'channel.private-key': 'secret:k', 'channel.folder': 'in' }
    expect(patchOf(channel, values, {})).toEqual({ channel: { kind: 'sftp', title: 'Share', name: 'share', address: 's:22', 'host-key': ['SHA256:a'], user: 'u', 'private-key': 'secret:k', folder: 'in' } })
    const watch = { 'channel.kind': 'snmp', 'channel.version': '3', 'channel.authentication': 'sha256' }
    expect(keys(watch)).toEqual(expect.arrayContaining(['channel.address', 'channel.notification', 'channel.user', 'channel.authentication-password', 'channel.privacy']))
    expect(keys(watch)).not.toContain('channel.community')
    expect(asked(channel, watch).filter((field) => field.key === 'channel.address').map((field) => field.hint)).toEqual(['Such as nms.example.org:162.'])
  })

  it('writes numbers as numbers, and says what is not one as it was typed', () => {
    const values = { ...entered(source, database), 'source.max-concurrency': '2', 'source.row-limit': 'many' }
    expect(patchOf(source, values, database)).toEqual({ source: { 'max-concurrency': 2, 'row-limit': 'many' } })
  })

  it('makes a whole definition of nothing', () => {
    const values = { ...entered(source, {}), 'source.kind': 'open-metrics', 'source.title': 'Gates', 'source.name': 'gates', 'source.url': 'http://x/metrics', 'source.sign-in.kind': 'bearer', 'source.sign-in.token': 'secret:gates-token' }
    expect(patchOf(source, values, {})).toEqual({ source: { kind: 'open-metrics', title: 'Gates', name: 'gates', url: 'http://x/metrics', 'sign-in': { kind: 'bearer', token: 'secret:gates-token' } } })
  })

  it('keeps what an audience says beside what is shown, and changes none that stays', () => {
    const fields = fieldsOf('report', false)
    const daily = { report: { name: 'daily', title: 'Daily', dashboards: ['a'], formats: ['pdf'] }, audience: [{ name: 'A', to: ['ann'], parameters: { port: 'havnes' } }] }
    const values = entered(fields, daily)
    expect(patchOf(fields, values, daily)).toEqual({})
    const audience = [{ ...(values.audience as object[])[0], to: ['ann', 'bob'] }, { name: 'B', to: ['carl'] }]
    expect(patchOf(fields, { ...values, audience }, daily)).toEqual({ audience: [{ name: 'A', to: ['ann', 'bob'], parameters: { port: 'havnes' } }, { name: 'B', to: ['carl'] }] })
    expect(patchOf(fields, { ...values, audience: [] }, daily)).toEqual({ audience: null })
    expect(patchOf(fields, { ...values, 'deliver.unsubscribe': true, 'report.formats': ['pdf', 'csv'] }, daily)).toEqual({ deliver: { unsubscribe: true }, report: { formats: ['pdf', 'csv'] } })
  })

  it('asks for window and zone only when a report is made', () => {
    expect(fieldsOf('report', true).some((field) => field.key === 'window.previous')).toBe(true)
    expect(fieldsOf('report', false).some((field) => field.key === 'window.previous')).toBe(false)
    expect(fieldsOf('nothing', true)).toEqual([])
  })

  it('says what is missing', () => {
    expect(missing(source, { 'source.kind': 'postgresql', 'source.title': 'Shop', 'source.name': 'shop', 'source.address': ' ' })).toEqual(['Host and port', 'Database', 'User'])
    expect(missing(FORMS.group!, { 'group.title': 'G', 'group.name': 'g', 'group.members': [] })).toEqual(['Members'])
  })

  it('has a form for each kind in which every key stands once at a time', () => {
    for (const [kind, fields] of Object.entries(FORMS)) {
      expect(fields.some((field) => field.key === `${kind}.name`), kind).toBe(true)
      const kinds = fields.find((field) => field.key === `${kind}.kind`)?.choices?.map((one) => one.value) ?? ['']
      for (const one of kinds) {
        const keys = asked(fields, { [`${kind}.kind`]: one, [`${kind}.sign-in.kind`]: 'basic' }).map((field) => field.key)
        expect(new Set(keys).size, `${kind} ${one}`).toBe(keys.length)
      }
    }
  })
})

describe('a draft', () => {
  const kept = (basedOn?: string) => JSON.stringify({ basedOn, values: { 'person.title': 'Ann' } })

  it('is there after a reload, of something new and of something stored', () => {
    expect(draftOf(kept(), undefined)).toEqual({ 'person.title': 'Ann' })
    expect(draftOf(kept('a'), 'a')).toEqual({ 'person.title': 'Ann' })
  })

  it('does not undo what somebody else has saved since', () => {
    expect(draftOf(kept('a'), 'b')).toEqual({})
  })

  it('is nothing where nothing fit was kept', () => {
    for (const bad of [null, '{', 'null', '3', '{}']) expect(draftOf(bad, undefined)).toEqual({})
  })
})

describe('names and secrets', () => {
  it('are made of what people write', () => {
    expect(nameOf('  Ferry Operations: Tórshavn, 2nd! ')).toBe('ferry-operations-torshavn-2nd')
    expect(nameOf('–')).toBe('')
    expect(secretName('shop', 'source.sign-in.token')).toBe('source-shop-token')
    expect(secretName('port.shop', 'source.password')).toBe('source-port-shop-password')
  })

  it('stand behind the name of the team that they belong to, once', () => {
    expect(inNameSpace('port', 'daily')).toBe('port.daily')
    expect(inNameSpace('port', 'crew.daily')).toBe('crew.daily')
    expect([inNameSpace(undefined, 'daily'), inNameSpace('port', '')]).toEqual(['daily', ''])
    expect(nameIn('reports/port.daily.toml')).toBe('port.daily')
  })

  it('are told apart from references', () => {
    expect(['env:X', 'secret:shop', ' file:/run/x'].every(isReference)).toBe(true)
    expect(['hunter2', 'env:', 'secretive', ''].some(isReference)).toBe(false)
  })
})

describe('what is wrong', () => {
  const problem = (key: string, message: string) => ({ file: 'x.toml', line: 1, column: 1, key, message })

  it('stands beside its field, and on its own where there is none', () => {
    expect(beside(source, [problem('source.address', 'is not host:port'), problem('source.address', 'and empty'), problem('source.colour', 'is unknown'), problem('', 'no file')])).toEqual({
      at: { 'source.address': 'is not host:port and empty' },
      rest: ['source.colour: is unknown', 'no file'],
    })
    const missing = { ...problem('source', 'the key "address" is missing here'), missing: { key: 'source.address' } }
    expect(beside(source, [missing]).at).toEqual({ 'source.address': 'This is needed.' })
    const either = { ...problem('source', 'needs a password or a private-key to sign in with'), missing: { key: 'source.private-key' } }
    expect(beside(source, [either]).at).toEqual({ 'source.private-key': 'needs a password or a private-key to sign in with' })
    expect(beside(FORMS.group!, [problem('group.members[2]', 'is nobody')]).at).toEqual({ 'group.members': 'is nobody' })
  })
})

describe('a form of a report', () => {
  const report = FORMS.report!
  const before = { report: { name: 'r', title: 'R', dashboards: ['d'] }, parameters: { port: 'havnes', old: 'x' }, approval: { deadline: 'P1D', 'at-deadline': 'send' } }

  it('replaces the values of parameters, and takes away what has none', () => {
    const values = entered(report, before)
    expect(values.parameters).toEqual([{ port: 'havnes', old: 'x' }])
    expect(patchOf(report, { ...values, parameters: [{ port: 'skarvoy', hosts: ['a'], none: '' }] }, before)).toEqual({ parameters: { port: 'skarvoy', hosts: ['a'], old: null } })
    expect(patchOf(report, { ...values, parameters: [{}] }, before)).toEqual({ parameters: null })
  })

  it('takes the whole table away with what it is for', () => {
    const patch = patchOf(report, { ...entered(report, before), 'approval.deadline': '' }, before)
    expect(patch).toEqual({ approval: null })
  })

  it('is shown in parts', () => {
    const who = partOf(report, 'Who gets it').map((field) => field.key)
    expect(who).toEqual(['audience', 'audiences-from'])
    expect(partOf(report)).toBe(report)
    const headings = [...new Set(report.map((field) => field.heading).filter(Boolean))]
    for (const heading of headings) expect(partOf(report, heading).length, heading).toBeGreaterThan(0)
  })

  it('merges a patch as the standard has it', () => {
    expect(merged({ a: 1, b: { c: 2, d: 3 }, e: [1] }, { a: null, b: { c: 4 }, e: [2], f: { g: null } })).toEqual({ b: { c: 4, d: 3 }, e: [2], f: {} })
  })

  it('asks of a sampler what its source understands', () => {
    const keys = (kind: string) => asked(FORMS.sampler!, { [kindOf('query.source')]: kind }).map((field) => field.key)
    expect(keys('open-metrics')).toContain('query.metric')
    expect(keys('local-checks')).toContain('query.targets')
    expect(keys('postgresql')).not.toContain('query.metric')
    expect(keys('ldap')).toEqual(expect.arrayContaining(['query.search', 'query.base', 'query.scope']))
    expect(keys('snmp')).toEqual(expect.arrayContaining(['query.objects', 'query.operation']))
    expect(keys('sftp')).toEqual(expect.arrayContaining(['query.file', 'query.format']))
    const checked = (check: string) => asked(FORMS.sampler!, { [kindOf('query.source')]: 'local-checks', 'query.check': check }).filter((field) => field.key === 'query.targets')
    expect(checked('memory')).toEqual([])
    expect(checked('network').map((field) => field.needed)).toEqual([undefined])
    expect(checked('tcp').map((field) => field.needed)).toEqual([true])
  })

  it('asks what a report waits for in the way of its source, whichever it is', () => {
    const keys = (kind: string) => asked(report, { 'readiness.source': 'a', [kindOf('readiness.source')]: kind, 'readiness.ready-when': 'true' }).map((field) => field.key)
    expect(keys('local-checks')).toEqual(expect.arrayContaining(['readiness.check', 'readiness.targets', 'readiness.column']))
    expect(keys('files')).toContain('readiness.file')
    expect(keys('http-json')).toEqual(expect.arrayContaining(['readiness.path', 'readiness.rows', 'readiness.field']))
    expect(keys('mysql')).toContain('readiness.sql')
    expect(keys('files')).not.toContain('readiness.sql')
    expect(asked(report, { 'readiness.source': '', [kindOf('readiness.source')]: 'files' }).map((field) => field.key)).not.toContain('readiness.file')
  })

  it('leaves a query alone that was put together otherwise', () => {
    const keys = { query: { source: 'a', pick: { table: 't' } } }
    const fields = withoutOthers(FORMS.sampler!, keys)
    expect(fields.map((field) => field.key)).not.toContain('query.sql')
    expect(missing(fields, { ...entered(fields, keys), [kindOf('query.source')]: 'postgresql', 'sampler.title': 'T', 'sampler.name': 't', 'sampler.every': '1 minute' })).toEqual([])
  })

  it('keeps what a table says by being there', () => {
    const keys = { report: { title: 'A' }, approval: {} }
    const values = entered(report, keys)
    expect(values['approval.deadline']).toBe('1 day')
    expect(patchOf(report, values, keys)).toEqual({})
    expect(patchOf(report, { ...values, 'approval.deadline': '' }, keys)).toEqual({ approval: null })
    expect(patchOf(report, { ...values, 'approval.deadline': '2 days' }, keys)).toEqual({ approval: { deadline: '2 days' } })
    const without = { report: { title: 'A' } }
    expect(patchOf(report, { ...entered(report, without), 'approval.deadline': '1 day' }, without)).toEqual({ approval: { deadline: '1 day' } })
  })

  it('does not change what it only reads otherwise', () => {
    const keys = { report: { dashboards: 'estate' }, keep: { 'most-runs': 30, snapshots: '90 days', records: '5 years' } }
    expect(patchOf(report, entered(report, keys), keys)).toEqual({})
  })

  // Each key of the reference; what stands in lists of tables has components of its own.
  it('reaches everything that a report can say', () => {
    const all = {
      report: ['name', 'team', 'title', 'tags', 'owner', 'dashboards', 'on-failed-block', 'time-limit', 'overlap', 'formats', 'numbers', 'dates', 'theme'],
      readiness: ['source', 'sql', 'metric', 'check', 'targets', 'path', 'rows', 'field', 'file', 'format', 'delimiter', 'ready-when', 'column', 'every', 'deadline', 'at-deadline'],
      send: ['when', 'queries', 'figures', 'match', 'confirm-quiet'],
      files: ['name', 'zip', 'csv-byte-order-mark', 'csv-formulas'],
      keep: ['documents', 'snapshots', 'records', 'most-runs', 'most-megabytes'],
      deliver: ['mail-server', 'attach', 'body', 'link', 'link-valid', 'max-size', 'retry-for', 'unsubscribe', 'late-after'],
      approval: ['deadline', 'at-deadline'],
      message: ['template', 'subject', 'text'],
    }
    const reached = new Set(report.map((field) => field.key))
    for (const [table, keys] of Object.entries(all)) for (const key of keys) expect(reached, `${table}.${key}`).toContain(`${table}.${key}`)
    for (const key of ['change', 'parameters', 'audience', 'audiences-from']) expect(reached).toContain(key)
  })
})
