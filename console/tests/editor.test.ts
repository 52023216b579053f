import { beforeEach, describe, expect, it } from 'vitest'

import Editor from '../src/dashboards/Editor.vue'
import { answer, messages, opened, settled, signedIn, type Page } from './page'
import { answering, asked, bodies, Refusal } from './service'

const block = (title: string) => ({ show: 'table', title, query: 'q' })
const KEYS = { dashboard: { name: 'small', title: 'Small' }, query: [{ name: 'q', source: 'shop', sql: 'select 1' }], section: [{ title: 'All', block: [block('First'), block('Second'), block('Third')] }] }
const DRAFT = 'POST /definitions/draft'

/** The service keeps text and keys in step; here a text is the keys as JSON. */
const drafted = ({ body }: { body: unknown }) => {
  const { text, keys } = body as { text: string; keys?: unknown }
  return keys ? { text: JSON.stringify(keys), keys: keys as never, problems: [] } : { text, keys: KEYS as never, problems: [] }
}
const wait = async (milliseconds = 350) => {
  await new Promise((done) => setTimeout(done, milliseconds))
  await settled()
}
const titles = (page: Page) => page.view.findAll('article.block').map((one) => one.attributes('aria-label')!.split('.')[0])
const card = (page: Page, title: string) => page.view.findAll('article.block').find((one) => one.attributes('aria-label')!.startsWith(title))!
const shown = async () => {
  const page = await opened(Editor, { at: '/dashboards/small/edit' })
  await wait()
  return page
}

beforeEach(() => {
  signedIn('author')
  answering({
    'GET /definitions/{kind}/{name}': { file: 'dashboards/small.toml', text: '# as it is', based_on: 'v7' },
    [DRAFT]: drafted,
    'GET /sources': [{ name: 'shop', title: 'Shop', kind: 'postgresql' }],
    'GET /dashboards': [{ name: 'small', title: 'Small', used_by: [], block_titles: [], parameters: [], sources: [] }],
    'GET /report-names': [],
    'POST /queries/try': new Refusal(422, 'not here'),
    'POST /preview': new Refusal(422, 'not here'),
  })
})

describe('the editor of a dashboard', () => {
  it('moves, takes off and brings back blocks by keyboard', async () => {
    const page = await shown()
    expect(titles(page)).toEqual(['First', 'Second', 'Third'])
    await card(page, 'First').trigger('keydown', { key: 'ArrowDown', altKey: true })
    await wait()
    expect(titles(page)).toEqual(['Second', 'First', 'Third'])
    await card(page, 'Third').trigger('keydown', { key: 'Delete' })
    await wait()
    expect(titles(page)).toEqual(['Second', 'First'])
    expect(messages().join()).toContain('“Third” is off the page; Undo brings it back.')
    await page.press('Undo')
    expect(titles(page)).toEqual(['Second', 'First', 'Third'])
    await page.press('Undo')
    expect(titles(page)).toEqual(['First', 'Second', 'Third'])
    await page.press('Redo')
    expect(titles(page)).toEqual(['Second', 'First', 'Third'])
  })

  it('is saved on what was read, and says that it is', async () => {
    answering({ 'POST /definitions/apply': {} })
    const page = await shown()
    expect(page.view.find('[role=status]').text()).toBe('Saved')
    await page.type('Title of the dashboard', 'Smaller')
    await wait()
    expect(page.view.find('[role=status]').text()).toBe('Not saved yet')
    await page.press('Save')
    await wait()
    const [order] = bodies('POST /definitions/apply') as { files: { file: string; text: string; based_on: string }[] }[]
    expect(order!.files).toHaveLength(1)
    expect(order!.files[0]).toMatchObject({ file: 'dashboards/small.toml', based_on: 'v7' })
    expect(order!.files[0]!.text).toContain('"title":"Smaller"')
  })

  it('keeps what was done when somebody else was faster', async () => {
    answering({ 'POST /definitions/apply': new Refusal(412, 'Ola saved this at 10:04.') })
    const page = await shown()
    await page.type('Title of the dashboard', 'Smaller')
    await wait()
    await page.press('Save')
    await wait()
    expect(page.has('Ola saved this at 10:04.')).toBe(true)
    expect(document.querySelector<HTMLInputElement>('[aria-label="Title of the dashboard"]')!.value).toBe('Smaller')
    // It is there again after a reload, too.
    page.view.unmount()
    const again = await shown()
    expect(document.querySelector<HTMLInputElement>('[aria-label="Title of the dashboard"]')!.value).toBe('Smaller')
    expect(again.view.find('[role=status]').text()).toBe('Not saved yet')
  })

  it('asks whose work stays, and saves over what it then knows', async () => {
    let version = 'v7'
    answering({
      'GET /definitions/{kind}/{name}': () => ({ file: 'dashboards/small.toml', text: '# theirs', based_on: version }),
      'POST /definitions/apply': ({ body }) => ((body as { files: { based_on: string }[] }).files[0]!.based_on === version ? {} : new Refusal(412, 'Ola saved this at 10:04.')),
    })
    const page = await shown()
    await page.type('Title of the dashboard', 'Smaller')
    await wait()
    version = 'v8'
    await page.press('Save')
    await wait()
    expect(await answer('Keep mine')).toContain('Ola saved this at 10:04.')
    await wait()
    const orders = bodies('POST /definitions/apply') as { files: { based_on: string }[] }[]
    expect(orders.map((one) => one.files[0]!.based_on)).toEqual(['v7', 'v8'])
    expect(page.view.find('[role=status]').text()).toBe('Saved')
  })

  it('is not saved while something about it is wrong, which stands at its block', async () => {
    const page = await shown()
    answering({ [DRAFT]: (one) => ({ ...drafted(one), problems: [{ file: 'small.toml', line: 9, column: 1, key: 'section[1].block[2].query', message: 'there is no query "q"' }] }) })
    await page.type('Title of the dashboard', 'Smaller')
    await wait()
    expect(page.view.find('[role=status]').text()).toContain('1 problem')
    expect(card(page, 'Second').text()).toContain('there is no query "q"')
    expect(card(page, 'First').text()).not.toContain('there is no query')
    expect(page.view.findAll('button').find((one) => one.text() === 'Save')!.attributes('disabled')).toBeDefined()
    expect(asked('POST /definitions/apply')).toEqual([])
  })
})
