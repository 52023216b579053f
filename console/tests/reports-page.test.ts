import { describe, expect, it } from 'vitest'

import Reports from '../src/pages/Reports.vue'
import { answer, messages, opened, settled, signedIn, type Page } from './page'
import { answering, asked, bodies, Refusal, type Part } from './service'

const report = (name: string, more: Part<'ReportView'> = {}): Part<'ReportView'> => ({ name, title: `Title of ${name}`, tags: [], dashboards: [], formats: ['pdf'], audiences: [], audiences_from: [], schedule: 'every day at 06:00', window: 'the previous day', time_zone: 'UTC', paused: false, last_run: null, next: '2026-11-29T06:00:00Z', run_count: 0, run_limit: null, ...more })
const shown = (reports: Part<'ReportView'>[], at = '/reports', role: 'author' | 'viewer' = 'author') => {
  signedIn(role)
  // As the service does it: a page of those that have all the words and the tag.
  answering({
    'GET /reports': ({ address }) => {
      const asks = new URL(address, 'http://x').searchParams
      const words = (asks.get('words') ?? '').split(' ')
      const found = reports.filter((one) => words.every((word) => one.name!.includes(word)) && (!asks.has('tag') || one.tags!.includes(asks.get('tag')!)))
      const [page, size] = [Number(asks.get('page')), Number(asks.get('size'))]
      return { items: found.slice((page - 1) * size, page * size), total: found.length, all: reports.length, page, size, tags: [...new Set(reports.flatMap((one) => one.tags!))] as string[] }
    },
  })
  return opened(Reports, { at })
}
/** The list is asked for anew a moment after the last sign. */
const loaded = async () => {
  await new Promise((done) => setTimeout(done, 200))
  await settled()
}
const names = (page: Page) => page.view.findAll('tbody strong').map((one) => one.text().replace('Title of ', ''))
const tick = async (page: Page, label: string) => {
  page.view.findAllComponents({ name: 'ElCheckbox' }).find((one) => one.html().includes(`aria-label="${label}"`))!.vm.$emit('update:modelValue', true)
  await settled()
}

describe('the list of reports', () => {
  it('shows what its address asks for, so that a view can be kept', async () => {
    const page = await shown([report('daily', { tags: ['port'] }), report('weekly'), report('yearly', { paused: true })], '/reports?search=y&tag=port')
    expect(names(page)).toEqual(['daily'])
    expect(page.has('1 of 3 reports')).toBe(true)
    await page.type('Search', 'nothing')
    await loaded()
    expect(page.at()).toContain('search=nothing')
    expect(page.has('No report is like this.')).toBe(true)
    await page.press('Show all')
    await loaded()
    expect(names(page)).toHaveLength(3)
  })

  it('is shown a page at a time', async () => {
    const page = await shown(Array.from({ length: 105 }, (_, index) => report(`r${String(index).padStart(3, '0')}`)), '/reports?page=3')
    expect(names(page)).toHaveLength(5)
    expect(names(page)[0]).toBe('r100')
    await page.type('Search', 'r00')
    await loaded()
    expect(names(page)).toHaveLength(10)
    expect(page.at()).not.toContain('page')
  })

  it('counts runs, and turns a schedule off and on where it stands', async () => {
    const run = { id: 'r', state: 'delivered', created_at: '2026-11-27T06:00:00Z' } as const
    const page = await shown([report('daily', { last_run: run, run_count: 12, run_limit: 30 }), report('asked', { schedule: null, last_run: run, run_count: 1 }), report('often', { last_run: run, run_count: 1000, paused: true })])
    for (const words of ['12 of 30 runs', '1 run', '1,000 runs']) expect(page.has(words), words).toBe(true)
    answering({ 'POST /reports/{name}/pause': report('daily'), 'POST /reports/{name}/resume': report('often') })
    const switches = page.view.findAllComponents({ name: 'ElSwitch' })
    expect(switches).toHaveLength(2)
    for (const one of switches) one.vm.$emit('change')
    await settled()
    expect(asked().map((one) => one.address)).toEqual(['/reports/daily/pause', '/reports/often/resume'])
  })

  it('says what to do where there is none', async () => {
    expect((await shown([])).has('There are no reports yet')).toBe(true)
  })

  it('has nothing to choose or make for viewers', async () => {
    const page = await shown([report('daily')], '/reports', 'viewer')
    expect(page.view.findAllComponents({ name: 'ElCheckbox' })).toEqual([])
    expect(page.has('New report')).toBe(false)
  })
})

describe('several reports at once', () => {
  it('are those in sight: what the search hides is left alone', async () => {
    const page = await shown([report('daily'), report('weekly')])
    answering({ 'POST /reports/{name}/pause': report('weekly') })
    await tick(page, 'Choose all on this page')
    expect(page.has('2 chosen')).toBe(true)
    await page.type('Search', 'weekly')
    await loaded()
    expect(page.has('1 chosen')).toBe(true)
    await page.press('Pause')
    expect(asked().map((one) => one.address)).toEqual(['/reports/weekly/pause'])
  })

  it('name the one that failed, and stay chosen', async () => {
    const page = await shown([report('daily'), report('weekly')])
    answering({ 'POST /reports/{name}/resume': ({ address }: { address: string }) => (address.includes('weekly') ? new Refusal(409, 'It is not paused.') : report('daily')) })
    await tick(page, 'Choose all on this page')
    await page.press('Resume')
    expect(messages().join()).toContain('weekly: It is not paused.')
    expect(asked()).toHaveLength(2)
    expect(page.has('2 chosen')).toBe(true)
  })

  it('are removed only after it was said what goes', async () => {
    const page = await shown([report('daily')])
    answering({ 'DELETE /definitions/{kind}/{name}': undefined })
    await tick(page, 'Choose Title of daily')
    await page.press('Remove')
    expect(await answer('Cancel')).toContain('Runs and documents that were made stay.')
    expect(asked()).toEqual([])
    await page.press('Remove')
    await answer('Remove')
    expect(asked()[0]!.address).toBe('/definitions/report/daily')
  })

  it('get a tag once', async () => {
    const page = await shown([report('daily', { tags: ['port'] }), report('weekly', { tags: ['old'] })])
    answering({ 'PATCH /definitions/{kind}/{name}': {} })
    await tick(page, 'Choose all on this page')
    await page.press('Tag …')
    await answer('Tag', ' port ')
    expect(bodies('PATCH /definitions/{kind}/{name}')).toEqual([{ keys: { report: { tags: ['old', 'port'] } } }])
  })
})
