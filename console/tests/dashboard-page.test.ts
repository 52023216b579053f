import { beforeEach, describe, expect, it } from 'vitest'

import Dashboard from '../src/pages/Dashboard.vue'
import { opened, signedIn } from './page'
import { answering, asked, bodies, Refusal, type Part } from './service'

const block = (section: number, number: number, title: string, twelfths = 12) => ({ title, place: { section, block: number }, twelfths })
const ESTATE = {
  name: 'estate', title: 'Estate', file: '', summary: 'All of it.', sections: 2, blocks: 3, block_titles: [], parameters: [], sources: [], used_by: ['estate-daily'],
  layout: [{ title: 'Hosts', blocks: [block(1, 1, 'Load', 6), block(1, 3, 'Disks', 6)] }, { title: 'Services', blocks: [block(2, 1, 'Answers')] }],
} satisfies Part<'DashboardView'>
const SHOW = 'POST /preview'
const DRAWN = '<p>drawn</p>' as never
const AT = { at: '/dashboards/estate' }

beforeEach(() => {
  signedIn('author')
  answering({ 'GET /dashboards': [ESTATE], 'GET /report-names': [{ name: 'estate-daily', title: 'Estate', time_zone: 'Atlantic/Faroe' }], [SHOW]: DRAWN })
})

describe('the page of a dashboard', () => {
  it('shows each block at once, asked for by its place in the zone of its readers', async () => {
    const page = await opened(Dashboard, AT)
    const frames = page.view.findAll('iframe')
    expect(frames.map((one) => one.attributes('title'))).toEqual(['Load', 'Disks', 'Answers'])
    expect(frames[0]!.attributes('srcdoc')).toContain('drawn')
    expect(page.view.findAll('section.card.part').map((one) => one.attributes('aria-label'))).toEqual(['Hosts', 'Services'])
    const places = bodies(SHOW).map((body) => (body as { block: unknown }).block)
    expect(places).toContainEqual({ section: 1, block: 3 })
    expect(bodies(SHOW).at(-1)).toMatchObject({ dashboard: 'estate', time_zone: 'Atlantic/Faroe' })
  })

  it('says what is wrong with a block in its place, and shows the others', async () => {
    answering({ [SHOW]: (one) => ((one.body as { block: { section: number } }).block.section === 2 ? new Refusal(504, 'the source did not answer') : DRAWN) })
    const page = await opened(Dashboard, AT)
    expect(page.has('◆ the source did not answer')).toBe(true)
    expect(page.view.findAll('iframe').length).toBe(2)
  })

  it('asks anew when it is told to', async () => {
    const page = await opened(Dashboard, AT)
    const before = asked(SHOW).length
    await page.press('Refresh')
    await new Promise((done) => setTimeout(done, 450))
    expect(asked(SHOW).length).toBe(before + 3)
  })

  it('asks nothing before a value is there that it needs', async () => {
    const port = { name: 'port', title: 'Port', kind: 'text', default: null, depends_on: [], choices: [], problem: null }
    answering({ 'GET /dashboards': [{ ...ESTATE, parameters: ['Port'] }], 'POST /dashboards/{name}/choices': [port] })
    const page = await opened(Dashboard, AT)
    expect(page.has('Still to be given: Port.')).toBe(true)
    expect(asked(SHOW)).toEqual([])
    await page.type('Port', 'havnes')
    expect(bodies(SHOW)[0]).toMatchObject({ values: { port: 'havnes' } })
    expect(page.has('Still to be given')).toBe(false)
  })

  it('leads viewers to what was made of it, and asks no source for them', async () => {
    signedIn('viewer')
    const page = await opened(Dashboard, AT)
    expect(page.has('Authors see it with figures of this moment.')).toBe(true)
    expect(page.view.find('a[href="/reports/estate-daily"]').exists()).toBe(true)
    expect(asked(SHOW)).toEqual([])
  })

  it('is the beginning of a report', async () => {
    const page = await opened(Dashboard, AT)
    await page.press('Make a report of this')
    expect(page.at()).toBe('/new/report?dashboard=estate')
  })
})
