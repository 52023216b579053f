import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'

import { empty, grouped, laidOut, missing, offered, orderOf, restored, scheduleOf, sentence, type Template } from '../src/templates/order'
import Sketch from '../src/templates/Sketch.vue'

const template = (more: Partial<Template>): Template => ({
  name: 'disks',
  title: 'Disks',
  question: 'How full?',
  purpose: 'capacity',
  purpose_title: 'Capacity',
  version: 1,
  source_kind: 'local-checks',
  inputs: [],
  blocks: [],
  samplers: 0,
  own: false,
  used_by: [],
  ...more,
})
const input = (name: string, kind: string, more = {}) => ({ name, title: name.toUpperCase(), kind, example: 'x', ...more })

describe('the catalogue of templates', () => {
  const all = [template({}), template({ name: 'names', title: 'Names', question: 'Do they resolve?', purpose_title: 'Availability' }), template({ name: 'locks', title: 'Locks', source_kind: 'postgresql', purpose_title: 'Capacity' })]

  it('stands under purposes, in the order that the service gives', () => {
    expect(grouped(all, '', '').map((group) => [group.title, group.templates.map((one) => one.name)])).toEqual([
      ['Capacity', ['disks', 'locks']],
      ['Availability', ['names']],
    ])
  })

  it('is searched by every word, anywhere, and by the kind of source', () => {
    expect(grouped(all, ' RESOLVE  names ', '').map((group) => group.title)).toEqual(['Availability'])
    expect(grouped(all, 'resolve locks', '')).toEqual([])
    expect(grouped(all, '', 'postgresql').flatMap((group) => group.templates.map((one) => one.name))).toEqual(['locks'])
  })
})

describe('a template that is filled in', () => {
  const asks = template({ inputs: [input('table', 'table'), input('rows', 'number', { default: '10' })] })

  it('says what is still to be given', () => {
    const draft = empty('UTC')
    expect(missing(asks, draft)).toEqual(['Source', 'TABLE'])
    draft.source = 'db'
    draft.values = { table: '  ' }
    expect(missing(asks, draft)).toEqual(['TABLE'])
    draft.values = { table: 'orders' }
    expect(missing(asks, draft)).toEqual([])
  })

  it('is an order with a report, or without', () => {
    const draft = { ...empty('Atlantic/Faroe'), source: 'db', values: { table: 'orders', rows: ' ' }, often: 'week' as const, at: '06:00', to: ['ada'] }
    expect(orderOf(draft)).toEqual({
      source: 'db',
      values: { table: 'orders' },
      report: { time_zone: 'Atlantic/Faroe', window: { previous: 'week' }, schedule: { every: 'week', on: ['monday'], at: '06:00' }, formats: ['pdf'], to: ['ada'] },
    })
    expect(orderOf({ ...draft, report: false, title: ' Mine ' })).toEqual({ source: 'db', values: { table: 'orders' }, title: 'Mine' })
    expect(scheduleOf({ ...draft, often: 'request' })).toBeNull()
  })

  it('says what will happen', () => {
    const draft = { ...empty('Atlantic/Faroe'), formats: ['pdf', 'csv'], to: ['ada', 'dagur', 'runa'] }
    expect(sentence(draft, 'Disks')).toBe('Every day at 07:30, Atlantic/Faroe, the previous day of “Disks” as PDF and CSV goes to ada, dagur and runa.')
    expect(sentence({ ...draft, to: [], often: 'request' }, 'Disks')).toBe('Only when asked, the previous day of “Disks” as PDF and CSV is made and sent to nobody yet.')
    expect(sentence({ ...draft, report: false }, 'Disks')).toContain('nothing is sent')
  })

  it('survives a reload, and what was stored by another version', () => {
    const draft = { ...empty('UTC'), source: 'db' }
    expect(restored(JSON.stringify(draft), 'UTC')).toEqual(draft)
    expect(restored('{"source":"db"}', 'UTC')).toEqual(draft)
    for (const bad of [null, 'null', '{', '3']) expect(restored(bad, 'UTC')).toEqual(empty('UTC'))
  })

  it('offers what the source has', () => {
    const item = (name: string) => ({ name, kind: 'text', description: null, unit: null })
    const entry = (name: string, items: string[]) => ({ name, kind: 'table', description: null, unit: null, items: items.map(item) }) as never
    const catalogue = [entry('public.orders', ['id', 'sum']), entry('public.people', ['name'])]
    expect(offered(input('table', 'table'), catalogue, {})).toEqual(['public.orders', 'public.people'])
    expect(offered(input('value', 'column', { of: 'table' }), catalogue, { table: 'public.orders' })).toEqual(['id', 'sum'])
    expect(offered(input('value', 'column', { of: 'table' }), catalogue, { table: 'people' })).toEqual(['name'])
    expect(offered(input('value', 'column', { of: 'table' }), catalogue, {})).toEqual([])
    expect(offered(input('word', 'text'), catalogue, {})).toEqual([])
  })
})

describe('the small picture of a dashboard', () => {
  const block = (show: string, twelfths: number) => ({ show, title: show, twelfths })

  it('has blocks side by side where they fit, and ends with the page', () => {
    const drawn = laidOut([block('figures', 12), block('line', 6), block('bar', 6), block('table', 12), block('table', 12)])
    expect(drawn.map((one) => one.show)).toEqual(['figures', 'line', 'bar', 'table'])
    expect(drawn[1]!.y).toBe(drawn[2]!.y)
    expect(drawn[1]!.x + drawn[1]!.width).toBeLessThan(drawn[2]!.x)
    expect(Math.max(...drawn.map((one) => one.y + one.height))).toBeLessThanOrEqual(96)
    expect(laidOut([block('page-break', 12)])).toEqual([])
  })

  it('says in words what it shows', () => {
    const page = mount(Sketch, { props: { blocks: [block('timeline', 12), block('share', 6), block('column', 6), block('text', 12), block('ranking', 12)] } })
    expect(page.attributes('aria-label')).toBe('Shows timeline, share, column, text, ranking')
    expect(page.html()).not.toContain('NaN')
  })
})
