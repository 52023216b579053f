import { mount, type VueWrapper } from '@vue/test-utils'
import ElementPlus from 'element-plus'
import { beforeEach, describe, expect, it } from 'vitest'
import type { Component } from 'vue'

import AudiencesFrom from '../src/forms/AudiencesFrom.vue'
import BlockChanges from '../src/forms/BlockChanges.vue'
import Form from '../src/forms/Form.vue'
import JsonFields from '../src/forms/JsonFields.vue'
import type { Keys } from '../src/forms/field'
import { opened, settled, signedIn } from './page'
import { answering, bodies, type Part } from './service'

const KEYS = 'GET /definitions/{kind}/{name}/keys'
const CHANGE = 'PATCH /definitions/{kind}/{name}'
const SOURCES = [
  { name: 'ops', kind: 'postgresql', title: 'Operations' },
  { name: 'checks', kind: 'local-checks', title: 'Checks' },
  { name: 'exports', kind: 'files', title: 'Exports' },
  { name: 'board', kind: 'web-page', title: 'Board' },
  { name: 'telemetry', kind: 'http-json', title: 'Telemetry' },
].map((one) => ({ ...one, file: '', address: '', timeout_seconds: 30, row_limit: 1, used_by: [] })) satisfies Part<'SourceView'>[]
const NAMES = SOURCES.map((one) => ({ kind: 'source', name: one.name, title: one.title, file: '', saved_at: '2026-11-28T10:00:00Z', saved_by: 'ada' })) satisfies Part<'DefinitionName'>[]
const DASHBOARDS = ['estate', 'ferries'].map((name) => ({ name, title: name, file: '', summary: null, sections: 1, blocks: 1, block_titles: [`Load of ${name}`], parameters: [], sources: [], used_by: [] })) satisfies Part<'DashboardView'>[]

beforeEach(() => {
  signedIn()
  answering({ 'GET /definitions/names': NAMES, 'GET /people': { people: [], groups: [] }, 'GET /sources': SOURCES, 'GET /dashboards': DASHBOARDS, 'POST /dashboards/{name}/choices': [] })
})

/** A component whose value is a list of tables, as a form holds it. */
function held(component: Component, value: Keys[], props: object = {}) {
  const view: VueWrapper = mount(component, {
    props: { modelValue: value, 'onUpdate:modelValue': (next: Keys[]) => view.setProps({ modelValue: next } as never), ...props },
    global: { plugins: [ElementPlus] },
    attachTo: document.body,
  })
  const field = (label: string) => view.find<HTMLInputElement>(`input[aria-label="${label}"], textarea[aria-label="${label}"]`)
  return {
    view,
    has: (label: string) => view.find(`[aria-label="${label}"]`).exists(),
    value: () => (view.props() as unknown as { modelValue: Keys[] }).modelValue,
    type: async (label: string, text: string) => {
      await field(label).setValue(text)
      await settled()
    },
    press: async (text: string) => {
      const button = view.findAll('button').find((one) => one.text() === text || one.attributes('aria-label') === text)
      if (!button) throw new Error(`no button “${text}”`)
      await button.trigger('click')
      await settled()
    },
    pick: async (label: string, value: unknown) => {
      const select = view.findAllComponents({ name: 'ElSelect' }).find((one) => one.props('ariaLabel') === label)
      if (!select) throw new Error(`no choice “${label}”`)
      select.vm.$emit('update:modelValue', value)
      await settled()
    },
  }
}

describe('the columns of rows of JSON', () => {
  it('are added, changed and removed', async () => {
    const columns = held(JsonFields, [], { title: 'Columns of a row' })
    await columns.press('+ column')
    await columns.press('+ column')
    await columns.type('Name of column 2', 'speed')
    await columns.type('JSONPath of column 2', '$.speed')
    await columns.pick('Type of column 2', 'number')
    await columns.press('Remove column 1')
    expect(columns.value()).toEqual([{ name: 'speed', path: '$.speed', kind: 'number' }])
  })

  it('keep what stands around the row', async () => {
    const columns = held(JsonFields, [{ name: 'port', outer: '$.port', kind: 'text' }], { title: 'Columns' })
    await columns.type('JSONPath of column 1', '$.home')
    expect(columns.value()).toEqual([{ name: 'port', outer: '$.home', kind: 'text' }])
  })
})

describe('blocks that are different in a report', () => {
  const props = { dashboards: DASHBOARDS, chosen: ['estate'] }

  it('are chosen by their titles, and say only what is different', async () => {
    const changes = held(BlockChanges, [], props)
    await changes.press('Change a block')
    await changes.pick('Block of change 1', 'Load of estate')
    await changes.type('Rows of change 1', '25')
    await changes.type('Title of change 1', 'All hosts')
    expect(changes.value()).toEqual([{ block: 'Load of estate', limit: 25, title: 'All hosts' }])
    await changes.type('Rows of change 1', 'all')
    await changes.type('Title of change 1', '')
    expect(changes.value()).toEqual([{ block: 'Load of estate', limit: 'all' }])
    expect(changes.has('Dashboard of change 1')).toBe(false)
  })

  it('ask for the columns of a chart, and forget them with it', async () => {
    const changes = held(BlockChanges, [{ block: 'Load of estate', style: 'kept' }], props)
    await changes.pick('Shown as, of change 1', 'line')
    await changes.type('Column of time of change 1', 'at')
    await changes.pick('Columns of values of change 1', ['cpu'])
    expect(changes.value()).toEqual([{ block: 'Load of estate', style: 'kept', show: 'line', time: 'at', values: ['cpu'] }])
    await changes.pick('Shown as, of change 1', 'table')
    expect(changes.value()).toEqual([{ block: 'Load of estate', style: 'kept', show: 'table' }])
  })

  it('ask for nothing more of a block that is left out', async () => {
    const changes = held(BlockChanges, [{ block: 'Load of estate', hide: true }], { ...props, chosen: ['estate', 'ferries'] })
    expect(changes.has('Title of change 1')).toBe(false)
    expect(changes.has('Dashboard of change 1')).toBe(true)
    await changes.press('Remove change 1')
    expect(changes.value()).toEqual([])
  })
})

describe('audiences from a query', () => {
  it('are asked of a source of any kind but a live page', async () => {
    const audiences = held(AudiencesFrom, [], { sources: SOURCES, names: NAMES })
    await audiences.press('Audiences from a query')
    await audiences.pick('Source of audiences 1', 'exports')
    expect(audiences.has('SQL of audiences 1')).toBe(false)
    await audiences.type('File of audiences 1', 'ports.csv')
    expect(audiences.value()[0]).toMatchObject({ source: 'exports', file: 'ports.csv', name: 'name', to: 'address' })
    const options = audiences.view.findAllComponents({ name: 'ElOption' }).map((one) => one.props('value'))
    expect(options).toContain('ops')
    expect(options).not.toContain('board')
  })

  it('keep what they say of when, where and how', async () => {
    const audiences = held(AudiencesFrom, [{ source: 'ops', sql: 'select 1', name: 'n', to: 't', parameters: { port: 'code' }, together: true }], { sources: SOURCES, names: NAMES })
    await audiences.pick('When audiences 1 get it', 'critical')
    expect(audiences.value()[0]).toEqual({ source: 'ops', sql: 'select 1', name: 'n', to: 't', parameters: { port: 'code' }, together: true, 'only-when': 'critical' })
    await audiences.pick('When audiences 1 get it', '')
    expect(audiences.value()[0]).not.toHaveProperty('only-when')
  })
})

describe('a part of a report', () => {
  it('waits for checks as for a database, in the keys that the source understands', async () => {
    answering({ [KEYS]: { keys: { report: { name: 'estate', title: 'Estate', dashboards: ['estate'] } }, based_on: 'v1' }, [CHANGE]: {} })
    const page = await opened(Form, { at: '/forms/report/estate', props: { of: { kind: 'report', name: 'estate' }, only: 'Approval and readiness' } })
    await page.choose('Waits until data of this source is there', 'checks')
    await page.choose('Check', 'tcp')
    await page.choose('Targets', ['127.0.0.1:5432'])
    await page.type('In this column of every row', 'ok')
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(bodies(CHANGE)).toEqual([{ keys: { readiness: { source: 'checks', check: 'tcp', targets: ['127.0.0.1:5432'], column: 'ok' } }, based_on: 'v1' }])
  })

  it('knows the dashboards that it does not ask for', async () => {
    answering({ [KEYS]: { keys: { report: { name: 'estate', title: 'Estate', dashboards: ['estate'] }, audience: [{ name: 'All', to: [], parameters: { port: 'a' } }] } }, 'POST /dashboards/{name}/choices': [{ name: 'port', title: 'Port', kind: 'text', default: null, depends_on: [], choices: [], problem: null }] })
    const page = await opened(Form, { at: '/forms/report/estate', props: { of: { kind: 'report', name: 'estate' }, only: 'Who gets it' } })
    expect(page.view.find('[aria-label="Port of All"]').exists()).toBe(true)
  })
})
