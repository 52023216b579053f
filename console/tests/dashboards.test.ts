import { beforeEach, describe, expect, it, vi } from 'vitest'

import { keptOf, problemsOf, useDraft } from '../src/dashboards/draft'
import { add, addSection, at, blocksOf, copy, copyQuery, cut, fingerprint, freshName, hide, isCut, lift, move, needs, queryName, remove, removeSection, renameQuery, resize, shift, shiftSection, width, type Dashboard } from '../src/dashboards/model'
import { become, fitting, sentence, SHOWS, suited, unfit } from '../src/dashboards/shows'
import { measureNames, testOf, withTest } from '../src/dashboards/picks'
import { begin } from '../src/forms/sources'
import { setField, STEPS, step, stepWords, usualKeys } from '../src/dashboards/steps'
import { windowKeys, WINDOWS } from '../src/dashboards/windows'

const ferry = (): Dashboard => ({
  dashboard: { name: 'ferry', title: 'Ferry' },
  parameter: [{ name: 'port', kind: 'choice', 'choices-from': 'ports' }, { name: 'least', kind: 'number' }],
  query: [
    { name: 'ports', source: 'ops', sql: 'select 1' },
    { name: 'load', source: 'ops', pick: { table: 'host_samples', measure: [], top: 10, filter: [{ column: 'port', parameter: 'port' }] } },
    { name: 'joined', of: 'load', then: [{ do: 'join', with: 'roles', on: ['host'] }, { do: 'top', rows: 3, of: 'cpu' }] },
    { name: 'roles', source: 'ops', sql: 'select :least as least' },
  ],
  section: [
    { title: 'One', block: [{ show: 'bar', title: 'Load', query: 'load', label: 'host', value: 'cpu' }, { show: 'text', text: 'Hm.' }] },
    { title: 'Two', block: [{ show: 'table', title: 'Joined', query: 'joined', limit: 5 }] },
  ],
})
const titles = (keys: Dashboard) => (keys.section ?? []).map((section) => [section.title, ...(section.block ?? []).map((block) => block.title ?? block.show)])
const names = (keys: Dashboard) => (keys.query ?? []).map((query) => query.name)

describe('a dashboard as it is edited', () => {
  it('puts blocks behind others, and into a section that is made for them', () => {
    const keys = ferry()
    expect(add(keys, { show: 'text' }, { section: 0, block: 0 })).toEqual({ section: 0, block: 1 })
    expect(add(keys, { show: 'image' }, null)).toEqual({ section: 1, block: 1 })
    const empty: Dashboard = { dashboard: { name: 'a', title: 'A' } }
    expect(add(empty, { show: 'text' }, null)).toEqual({ section: 0, block: 0 })
    expect(titles(empty)).toEqual([['Overview', 'text']])
  })

  it('moves blocks within their section, into the next, and no further', () => {
    const keys = ferry()
    expect(shift(keys, { section: 0, block: 0 }, 1)).toEqual({ section: 0, block: 1 })
    expect(shift(keys, { section: 0, block: 1 }, 1)).toEqual({ section: 1, block: 0 })
    expect(titles(keys)).toEqual([['One', 'text'], ['Two', 'Load', 'Joined']])
    expect(shift(keys, { section: 1, block: 1 }, 1)).toEqual({ section: 1, block: 1 })
    expect(shift(keys, { section: 1, block: 0 }, -1)).toEqual({ section: 0, block: 1 })
    expect(move(keys, { section: 0, block: 1 }, { section: 1, block: 9 })).toEqual({ section: 1, block: 1 })
    expect(titles(keys)).toEqual([['One', 'text'], ['Two', 'Joined', 'Load']])
  })

  it('takes a block off with the queries that nothing needs any more', () => {
    const keys = ferry()
    remove(keys, { section: 1, block: 0 })
    expect(names(keys)).toEqual(['ports', 'load'])
    remove(keys, { section: 0, block: 0 })
    expect(names(keys)).toEqual(['ports'])
    remove(keys, { section: 5, block: 0 })
  })

  it('copies blocks and queries under names of their own', () => {
    const keys = ferry()
    expect(copy(keys, { section: 0, block: 0 })).toEqual({ section: 0, block: 1 })
    expect(titles(keys)[0]).toEqual(['One', 'Load', 'Load 2', 'text'])
    expect(copyQuery(keys, 'load')).toBe('load_2')
    expect(copyQuery(keys, 'load')).toBe('load_3')
    expect(freshName('', [])).toBe('query')
    expect(queryName('CPU of hosts, höchste')).toBe('cpu_of_hosts_hochste')
    expect(queryName('95th percentile')).toBe('q_95th_percentile')
  })

  it('keeps blocks when their section goes', () => {
    const keys = ferry()
    removeSection(keys, 1)
    expect(titles(keys)).toEqual([['One', 'Load', 'text', 'Joined']])
    expect(addSection(keys)).toBe(1)
    expect(shiftSection(keys, 1, -1)).toBe(0)
    expect(shiftSection(keys, 0, -1)).toBe(0)
    removeSection(keys, 0)
    expect(titles(keys)).toEqual([['One', 'Load', 'text', 'Joined']])
  })

  it('knows what a block needs, and when its picture is another', () => {
    const keys = ferry()
    expect(needs(keys, at(keys, { section: 1, block: 0 })).sort()).toEqual(['joined', 'load', 'roles'])
    const load = blocksOf(keys)[0]!.block
    const before = fingerprint(keys, load)
    keys.query![3]!.sql = 'select 2'
    expect(fingerprint(keys, load)).toBe(before)
    keys.query![1]!.source = 'other'
    expect(fingerprint(keys, load)).not.toBe(before)
  })

  it('shows all rows in one press, and leaves those of other blocks alone', () => {
    const keys = ferry()
    expect(isCut(keys, at(keys, { section: 1, block: 0 })!)).toBe(true)
    lift(keys, { section: 1, block: 0 })
    expect(at(keys, { section: 1, block: 0 })).toEqual({ show: 'table', title: 'Joined', query: 'joined' })
    expect(keys.query![2]!.then).toEqual([{ do: 'join', with: 'roles', on: ['host'] }])
    // The query of the first block is the second's, too.
    lift(keys, { section: 0, block: 0 })
    expect(at(keys, { section: 0, block: 0 })!.query).toBe('load_all')
    expect((keys.query!.at(-1)!.pick as { top?: number }).top).toBeUndefined()
    expect((keys.query![1]!.pick as { top?: number }).top).toBe(10)
    expect(isCut(keys, at(keys, { section: 0, block: 0 })!)).toBe(false)
  })

  it('cuts a dashboard in two, each with what it needs', () => {
    const keys = ferry()
    const other = cut(keys, [{ section: 1, block: 0 }], 'other', 'Other')
    expect(titles(other)).toEqual([['Two', 'Joined']])
    expect(names(other)).toEqual(['ports', 'load', 'joined', 'roles'])
    expect(other.parameter!.map((one) => one.name)).toEqual(['port', 'least'])
    expect(titles(keys)).toEqual([['One', 'Load', 'text']])
    expect(names(keys)).toEqual(['ports', 'load'])
    const words = cut(ferry(), [{ section: 0, block: 1 }], 'words', 'Words')
    expect([words.query, words.parameter]).toEqual([undefined, undefined])
  })

  it('renames a query wherever it is said', () => {
    const keys = ferry()
    renameQuery(keys, 'load', 'cpu')
    renameQuery(keys, 'roles', 'kinds')
    renameQuery(keys, 'ports', 'harbours')
    expect([keys.query![2]!.of, keys.query![2]!.then![0]!.with, at(keys, { section: 0, block: 0 })!.query, keys.parameter![0]!['choices-from']]).toEqual(['cpu', 'kinds', 'cpu', 'harbours'])
  })

  it('hides a block and shows it again', () => {
    const keys = ferry()
    hide(keys, { section: 0, block: 0 })
    expect(at(keys, { section: 0, block: 0 })!.hide).toBe(true)
    hide(keys, { section: 0, block: 0 })
    expect(at(keys, { section: 0, block: 0 })!).not.toHaveProperty('hide')
    hide(keys, { section: 9, block: 0 })
  })

  it('has widths in steps', () => {
    const block = { width: 'half' as unknown }
    expect(width(block)).toBe(6)
    resize(block, 1)
    expect(block.width).toBe(8)
    resize(block, 1)
    resize(block, 1)
    expect(block.width).toBe(12)
    resize(block, -1)
    expect(block.width).toBe(8)
    expect(width({})).toBe(12)
  })
})

const column = (name: string, kind: string) => ({ name, kind, numeric: ['integer', 'number', 'decimal'].includes(kind) })
const at_ = column('at', 'instant')
const host = column('host', 'text')
const cpu = column('cpu', 'number')
const disk = column('disk', 'integer')

describe('what suits the rows', () => {
  it('draws values over time as lines, and values of names as bars', () => {
    expect(fitting([at_, host, cpu], 300)[0]).toEqual({ show: 'line', time: 'at', series: 'host', value: 'cpu' })
    expect(fitting([at_, cpu, disk], 300)[0]).toEqual({ show: 'line', time: 'at', value: ['cpu', 'disk'] })
    expect(fitting([host, cpu], 20)[0]).toEqual({ show: 'bar', label: 'host', value: 'cpu' })
    expect(fitting([cpu, disk], 1)[0]).toEqual({ show: 'figures' })
    expect(fitting([host], 5).map((one) => one.show)).toEqual(['table'])
    expect(fitting([], 0).map((one) => one.show)).toEqual(['table'])
  })

  it('says why a column does not fit', () => {
    const [time, value] = SHOWS[0]!.columns
    expect(unfit(host, value!)).toContain('takes numbers')
    expect(unfit(cpu, time!)).toContain('takes instants')
    expect(unfit(cpu, value!)).toBeNull()
    expect(suited('timeline', [at_, host])).toBeNull()
    expect(suited('nothing', [cpu])).toBeNull()
    const since = SHOWS.find((one) => one.show === 'figures')!.columns.find((one) => one.key === 'since')!
    expect(since.choices!.map((one) => one.value)).toEqual(['window', 'run'])
  })

  it('keeps what two kinds share', () => {
    const bar = { show: 'bar', title: 'Load', query: 'load', label: 'role', value: 'disk', note: 'n', width: 6, stacked: true }
    expect(become(bar, 'column', [host, cpu, disk])).toEqual({ show: 'column', title: 'Load', query: 'load', label: 'role', value: 'disk', note: 'n', width: 6 })
    expect(become({ ...bar, value: ['disk', 'cpu'] }, 'share', [host, cpu, disk]).value).toBe('disk')
    expect(become(bar, 'table', [host, cpu])).toEqual({ show: 'table', title: 'Load', query: 'load', note: 'n', width: 6 })
  })

  it('says what a block shows', () => {
    expect(sentence({ show: 'line', query: 'load', series: 'host', value: 'cpu', time: 'at' })).toBe('Lines of cpu from load for each host over time')
    expect(sentence({ show: 'table', query: 'disks', limit: 10 })).toBe('Table from disks the first 10')
    expect(sentence({ from: 'ferry / Fullest disks / all' })).toBe('The block “Fullest disks / all” of ferry')
    expect([sentence({ show: 'text' }), sentence({ show: 'page-break' }), sentence({ show: 'image' })]).toEqual(['Text', 'What follows begins on a new page', 'A picture'])
  })
})

describe('what is asked of a source', () => {
  const item = (name: string, kind: string) => ({ name, kind, description: '', values: [] })
  const entry = (name: string, ...items: ReturnType<typeof item>[]) => ({ name, kind: 'table', unit: '', description: '', items })
  it('begins with a sensible measure', () => {
    const samples = entry('public.host_samples', item('id', 'bigint'), item('at', 'timestamp with time zone'), item('host', 'text'), item('cpu', 'double precision'))
    expect(begin('postgresql', samples)).toEqual({ pick: { table: 'public.host_samples', measure: [{ column: 'cpu', with: 'mean', name: 'cpu' }], time: 'at', 'over-time': true } })
    expect(begin('postgresql', entry('t', item('name', 'text'), item('size', 'numeric')))).toEqual({ pick: { table: 't', measure: [{ column: 'size', with: 'mean', name: 'size' }], group: ['name'], top: 10 } })
    expect(begin('postgresql', entry('t'))).toEqual({ pick: { table: 't', measure: [{ column: '*', with: 'count', name: 'rows' }] } })
    expect(begin('open-metrics', entry('up'))).toEqual({ metric: 'up' })
    expect(begin('files', entry('a.jsonl'))).toEqual({ file: 'a.jsonl', format: 'json-lines' })
    expect(begin('files', entry('works.ICS'))).toEqual({ file: 'works.ICS', format: 'icalendar' })
    expect(begin('files', entry('a.csv'))).toEqual({ file: 'a.csv' })
    expect(begin('local-checks', entry('dns'))).toEqual({ check: 'dns', targets: ['localhost'] })
    expect(begin('http-json', entry('/range')).path).toBe('/range')
    expect(begin('local-checks', entry('memory'))).toEqual({ check: 'memory' })
    expect(begin('ldap', entry('inetOrgPerson'))).toEqual({ search: '(objectClass=inetOrgPerson)' })
    expect(begin('snmp', entry('ifTable', item('ifDescr', 'object'), item('ifOperStatus', 'object')))).toEqual({ objects: ['ifDescr', 'ifOperStatus'], operation: 'table' })
    expect(begin('sftp', entry('load.csv'))).toEqual(begin('files', entry('load.csv')))
    expect(begin('snmp', { ...entry('sysName'), kind: '' })).toEqual({ objects: ['sysName'], operation: 'get' })
  })

  it('tests a column in every way', () => {
    const filter = { column: 'role', is: ['db', 'app'] }
    expect(withTest(filter, 'is-not')).toEqual({ column: 'role', 'is-not': ['db', 'app'] })
    expect(withTest(filter, 'contains')).toEqual({ column: 'role', contains: 'db' })
    const between = withTest({ column: 'cpu', 'at-least': 5 }, 'between')
    expect(between).toEqual({ column: 'cpu', 'at-least': 5, 'at-most': 5 })
    expect(testOf(between)).toBe('between')
    expect([testOf({ column: 'a', 'at-most': 1 }), testOf({ column: 'a', parameter: 'p' }), testOf({ column: 'a' })]).toEqual(['at-most', 'parameter', 'is'])
    expect(withTest(filter, 'parameter')).toEqual({ column: 'role', parameter: '' })
    expect(withTest(filter, 'at-least')).toEqual({ column: 'role', 'at-least': 0 })
  })

  it('names measures apart', () => {
    const measures = [{ column: 'cpu', with: 'mean' }, { column: 'cpu', with: 'max' }, { column: '*', with: 'count' }, { column: 'disk' }] as Record<string, unknown>[]
    measureNames(measures)
    expect(measures.map((one) => one.name)).toEqual(['cpu_mean', 'cpu_max', 'rows', 'disk'])
  })
})

describe('steps', () => {
  it('are said in words', () => {
    expect(stepWords({ do: 'top', rows: 10, of: 'cpu', others: 'All other hosts' })).toBe('Keep the highest, rows 10, by cpu, the rest as one row called All other hosts')
    expect(stepWords({ do: 'sort', by: ['a', 'b'], order: 'highest' })).toBe('Sort, by a, b, order Highest first')
    expect(stepWords({ do: 'group', by: 'a', shares: true })).toContain('with shares of the whole')
    expect(stepWords({ do: 'unheard-of' })).toBe('unheard-of')
    expect(new Set(STEPS.map((one) => one.do)).size).toBe(STEPS.length)
    const columns = [
      { name: 'at', kind: 'instant', numeric: false },
      { name: 'service', kind: 'text', numeric: false },
      { name: 'ok', kind: 'boolean', numeric: false },
      { name: 'used', kind: 'number', numeric: true },
    ]
    expect(usualKeys('availability', columns)).toEqual({ by: ['service'], state: 'ok', objective: 99.9 })
    expect(usualKeys('forecast', columns)).toEqual({ by: ['service'], value: 'used' })
    expect(usualKeys('limit', columns)).toEqual({})
    expect(stepWords({ do: 'forecast', time: 'at', value: 'used', by: ['service'], method: 'line' })).toBe('Forecast, time at, of used, for each service, by Straight line')
    expect(stepWords({ do: 'changes', key: ['host'], since: 'run' })).toBe('What is new, gone and altered, rows belong together by host, since The run before')
  })

  it('take numbers as numbers, and lose what is empty', () => {
    const keys: Record<string, unknown> = { do: 'top' }
    const [rows, of] = step('top')!.fields
    setField(keys, rows!, '5')
    setField(keys, of!, 'cpu')
    expect(keys).toEqual({ do: 'top', rows: 5, of: 'cpu' })
    setField(keys, rows!, 'many')
    expect(keys.rows).toBe('many')
    setField(keys, rows!, '')
    setField(keys, of!, [])
    expect(keys).toEqual({ do: 'top' })
  })

  it('have windows to be looked at in', () => {
    expect(windowKeys('PT6H', null)).toEqual({ last: 'PT6H' })
    expect(windowKeys('between', ['2026-11-01', '2026-11-08'])).toEqual({ interval: '2026-11-01/2026-11-08' })
    expect(windowKeys('between', null)).toEqual({ previous: 'day' })
    expect(WINDOWS.length).toBeGreaterThan(5)
  })
})

describe('a draft', () => {
  beforeEach(() => {
    sessionStorage.clear()
    vi.useFakeTimers()
  })
  // A service that writes keys as JSON, and reads them again.
  const service = vi.fn(async (body: { text: string; keys?: unknown }) => {
    const text = body.keys ? JSON.stringify(body.keys) : body.text
    let keys: unknown = null
    try {
      keys = JSON.parse(text)
    } catch {
      // It is no text of this service.
    }
    return { text, keys, problems: keys ? [] : [{ file: 'draft.toml', line: 1, column: 1, key: '', message: 'not read' }] } as never
  })
  const stored = { text: JSON.stringify(ferry()), basedOn: 'v1' }
  const ready = async () => {
    const draft = useDraft(() => 'd', service, 10)
    await draft.begin(stored)
    return draft
  }

  it('changes keys and text together, and goes back and forth', async () => {
    const draft = await ready()
    expect(draft.changed.value).toBe(false)
    draft.edit((keys) => (keys.dashboard.title = 'F'), 'title')
    draft.edit((keys) => (keys.dashboard.title = 'Fe'), 'title')
    draft.edit((keys) => remove(keys, { section: 0, block: 0 }))
    await vi.runAllTimersAsync()
    expect(JSON.parse(draft.text.value).dashboard.title).toBe('Fe')
    expect(draft.changed.value).toBe(true)
    draft.undo()
    expect(blocksOf(draft.keys.value)).toHaveLength(3)
    expect(draft.keys.value.dashboard.title).toBe('Fe')
    draft.undo()
    expect(draft.keys.value.dashboard.title).toBe('Ferry')
    expect(draft.canUndo.value).toBe(false)
    draft.undo()
    draft.redo()
    draft.redo()
    await vi.runAllTimersAsync()
    expect(blocksOf(draft.keys.value)).toHaveLength(2)
    expect(draft.synced.value.text).toBe(draft.text.value)
  })

  it('takes what is typed, and keeps the keys while that cannot be read', async () => {
    const draft = await ready()
    draft.type('{')
    await vi.runAllTimersAsync()
    expect(draft.problems.value).toHaveLength(1)
    expect(draft.keys.value.dashboard.title).toBe('Ferry')
    draft.type(JSON.stringify({ dashboard: { name: 'ferry', title: 'Typed' } }))
    await vi.runAllTimersAsync()
    expect(draft.keys.value.dashboard.title).toBe('Typed')
    expect(draft.problems.value).toHaveLength(0)
  })

  it('outlives a reload, unless something else has been saved meanwhile', async () => {
    const draft = await ready()
    draft.edit((keys) => (keys.dashboard.title = 'Mine'))
    await vi.runAllTimersAsync()
    const again = await ready()
    expect(again.keys.value.dashboard.title).toBe('Mine')
    expect(again.changed.value).toBe(true)
    const later = useDraft(() => 'd', service, 10)
    await later.begin({ text: stored.text, basedOn: 'v2' })
    expect(later.keys.value.dashboard.title).toBe('Ferry')
    expect(keptOf('nonsense')).toBeNull()
    expect(keptOf('{"keys":{}}')).toBeNull()
  })

  it('says when the service cannot be reached, and loses nothing', async () => {
    const draft = await ready()
    service.mockRejectedValueOnce(new Error('away'))
    draft.edit((keys) => (keys.dashboard.title = 'Mine'))
    await vi.runAllTimersAsync()
    expect(draft.failed.value).toContain('away')
    draft.edit((keys) => (keys.dashboard.summary = 'More'))
    await vi.runAllTimersAsync()
    expect(draft.failed.value).toBeNull()
    expect(JSON.parse(draft.text.value).dashboard).toEqual({ name: 'ferry', title: 'Mine', summary: 'More' })
    draft.isSaved('v2')
    expect(draft.changed.value).toBe(false)
    expect(sessionStorage.getItem('d')).toBeNull()
  })

  it('finds the problems of a block and of its queries', () => {
    const problem = (key: string) => ({ file: '', line: 1, column: 1, key, message: '' })
    const all = [problem('section[1].block[2].time'), problem('section[1].block[20].time'), problem('query[3]'), problem('query[3].then[1].of')]
    expect(problemsOf(all, 'section[1].block[2]', 'query[3]')).toEqual([all[0], all[2], all[3]])
  })
})
