import { beforeEach, describe, expect, it } from 'vitest'

import Audiences from '../src/forms/Audiences.vue'
import Form from '../src/forms/Form.vue'
import Values from '../src/forms/Values.vue'
import Parameters from '../src/parts/Parameters.vue'
import { answer, messages, opened, settled, signedIn, type Page } from './page'
import { answering, asked, bodies, Refusal } from './service'

const MAKE = 'POST /definitions/{kind}'
const CHANGE = 'PATCH /definitions/{kind}/{name}'
const SECRET = 'PUT /secrets/{name}'
const KEYS = 'GET /definitions/{kind}/{name}/keys'
const made = (file: string) => ({ file, text: '' })
const submit = async (page: Page) => {
  page.view.find('form').element.requestSubmit()
  await settled()
}
beforeEach(() => {
  signedIn()
  answering({ 'GET /people': { people: [], groups: [] }, 'GET /sources': [], 'GET /definitions/names': [], 'GET /dashboards': [] })
})

describe('the page of a form', () => {
  it('says what is still to be given, and suggests the name from the title', async () => {
    answering({ [MAKE]: made('people/runa-holm.toml') })
    const page = await opened(Form, { at: '/new/person' })
    expect(page.has('Still to be given: Title, Name, Mail address.')).toBe(true)
    await page.type('Title', 'Runa Holm')
    await page.type('Mail address', 'runa@orrin-sound.example')
    await submit(page)
    expect(bodies(MAKE)[0]).toEqual({ keys: { person: { title: 'Runa Holm', name: 'runa-holm', address: 'runa@orrin-sound.example' } } })
    expect(messages().join()).toContain('Saved.')
  })

  it('suggests a name in the name space of the team that it will belong to', async () => {
    signedIn('author', { teams: ['port'] })
    answering({ [MAKE]: made('people/port.runa-holm.toml') })
    const page = await opened(Form, { at: '/new/person' })
    await page.type('Title', 'Runa Holm')
    await page.type('Mail address', 'runa@orrin-sound.example')
    await submit(page)
    expect(bodies(MAKE)[0]).toMatchObject({ keys: { person: { name: 'port.runa-holm', team: 'port' } } })
  })

  it('says what new terms of keeping let go, and saves nothing if one would rather not', async () => {
    const keys = { report: { name: 'daily', title: 'Daily', 'time-zone': 'UTC', dashboards: ['d'] }, window: { previous: 'day' }, keep: { 'most-runs': 400 } }
    const change = { action: 'alter' as const, kind: 'report' as const, name: 'daily', file: 'reports/daily.toml', diff: '', lets_go: 'the documents of 2 runs (1.0 MiB)' }
    answering({ [KEYS]: { keys, file: 'reports/daily.toml', based_on: 'x' }, 'POST /definitions/draft': { text: 'as it would be', problems: [] }, 'POST /definitions/plan': { changes: [change], unchanged: 0 }, [CHANGE]: made('reports/daily.toml') })
    const page = await opened(Form, { at: '/forms/report/daily' })
    await page.type('Of so many runs, at most', '1')
    await submit(page)
    expect(await answer('Cancel')).toContain('these go at once and for good: the documents of 2 runs (1.0 MiB)')
    expect(bodies(CHANGE)).toEqual([])
    expect(bodies('POST /definitions/plan')[0]).toMatchObject({ files: [{ file: 'reports/daily.toml', text: 'as it would be' }] })
    await submit(page)
    await answer('Save')
    expect(bodies(CHANGE)[0]).toMatchObject({ keys: { keep: { 'most-runs': 1 } } })
  })

  it('puts what is wrong beside the field that it is about, and keeps what was typed', async () => {
    answering({ [MAKE]: new Refusal(422, 'one problem', { problems: [{ file: 'people/x.toml', line: 3, column: 1, key: 'person.address', message: 'is no mail address' }, { file: 'people/x.toml', line: 1, column: 1, key: '', message: 'something else' }] }) })
    const page = await opened(Form, { at: '/new/person' })
    await page.type('Title', 'Runa')
    await page.type('Mail address', 'runa')
    await submit(page)
    const beside = page.view.findAll('.field').find((one) => one.text().includes('Mail address'))!
    expect(beside.find('[role=alert]').text()).toContain('is no mail address')
    expect(page.has('something else')).toBe(true)
    expect(page.view.find<HTMLInputElement>('[aria-label="Mail address"]').element.value).toBe('runa')
  })

  it('has what was typed again after a reload, but no secret', async () => {
    const first = await opened(Form, { at: '/new/source?kind=postgresql' })
    await first.type('Title', 'Shop')
    await first.type('Password', 'hunter-42')
    first.view.unmount()
    expect(JSON.stringify(sessionStorage)).not.toContain('hunter-42')
    const again = await opened(Form, { at: '/new/source?kind=postgresql' })
    expect(again.view.find<HTMLInputElement>('[aria-label="Title"]').element.value).toBe('Shop')
    expect(again.view.find<HTMLInputElement>('[aria-label="Password"]').element.value).toBe('')
  })

  it('stores a secret first, and only refers to it', async () => {
    answering({ [SECRET]: undefined, [MAKE]: made('sources/shop.toml'), [KEYS]: { keys: {} }, 'POST /sources/{name}/test': { works: true, detail: '12 tables', milliseconds: 3 } })
    const page = await opened(Form, { at: '/new/source?kind=postgresql' })
    for (const [label, text] of Object.entries({ Title: 'Shop', 'Host and port': 'db1:5432', Database: 'shop', User: 'reader', Password: 'hunter-42' })) await page.type(label, text)
    await submit(page)
    expect(asked().map((one) => one.operation).slice(0, 2)).toEqual([SECRET, MAKE])
    const stored = asked(SECRET)[0]!
    expect(stored.body).toEqual({ value: 'hunter-42' })
    const written = JSON.stringify(bodies(MAKE))
    expect(written).not.toContain('hunter-42')
    expect(written).toContain(`secret:${stored.address.split('/').at(-1)}`)
    expect(page.has('It works: 12 tables')).toBe(true)
  })

  it('changes only what was changed, based on what was read', async () => {
    answering({ [KEYS]: { keys: { person: { name: 'runa', title: 'Runa', address: 'runa@orrin-sound.example', note: 'kept' } }, based_on: 'v7' }, [CHANGE]: {} })
    const page = await opened(Form, { at: '/forms/person/runa' })
    await page.type('Title', 'Runa Holm')
    await submit(page)
    expect(bodies(CHANGE)).toEqual([{ keys: { person: { title: 'Runa Holm' } }, based_on: 'v7' }])
  })

  it('loses nothing when somebody else saved meanwhile', async () => {
    answering({ [KEYS]: { keys: { person: { name: 'runa', title: 'Runa', address: 'runa@orrin-sound.example' } }, based_on: 'v7' }, [CHANGE]: new Refusal(412, 'Ola saved this at 10:04.') })
    const page = await opened(Form, { at: '/forms/person/runa' })
    await page.type('Title', 'Runa Holm')
    await submit(page)
    expect(page.has('Ola saved this at 10:04.')).toBe(true)
    expect(page.view.find<HTMLInputElement>('[aria-label="Title"]').element.value).toBe('Runa Holm')
    expect(page.at()).toBe('/forms/person/runa')
  })

  it('asks before it removes, and names what still needs it', async () => {
    answering({ [KEYS]: { keys: { person: { name: 'runa', title: 'Runa', address: 'a@b' } } }, 'DELETE /definitions/{kind}/{name}': new Refusal(409, 'still needed', { problems: [{ file: 'reports/daily.toml', line: 9, column: 1, key: '', message: 'nobody is called “runa”' }] }) })
    const page = await opened(Form, { at: '/forms/person/runa' })
    await page.press('Remove')
    await answer('Cancel')
    expect(asked()).toEqual([])
    await page.press('Remove')
    await answer('Remove')
    expect(page.has('reports/daily.toml: nobody is called “runa”')).toBe(true)
  })
})

describe('who gets a report', () => {
  const shown = async (audiences: unknown[]) => {
    answering({ 'POST /dashboards/{name}/choices': [] })
    const page = await opened(Audiences, { props: { modelValue: audiences, people: [], names: [], dashboards: [] } })
    const now = () => page.view.emitted('update:modelValue')?.at(-1)?.[0]
    return { page, now }
  }

  it('keeps what the form does not show', async () => {
    const { page, now } = await shown([{ name: 'Office', to: ['a'], footer: 'kept' }])
    await page.choose('When Office gets it', 'critical')
    expect(now()).toEqual([{ name: 'Office', to: ['a'], footer: 'kept', 'only-when': 'critical' }])
  })

  it('takes away what is as usual, but never the recipients', async () => {
    const { page, now } = await shown([{ name: 'Office', to: ['a'], 'only-when': 'critical', cc: ['b'] }])
    await page.choose('When Office gets it', '')
    expect(now()).toEqual([{ name: 'Office', to: ['a'], cc: ['b'] }])
    await page.choose('CC of Office', [])
    expect(now()).toEqual([{ name: 'Office', to: ['a'] }])
    await page.choose('Recipients of Office', [])
    expect(now()).toEqual([{ name: 'Office', to: [] }])
  })

  it('gives each new audience a name of its own', async () => {
    const { page, now } = await shown([{ name: 'Recipients', to: [] }])
    await page.press('Add an audience')
    expect(now()).toEqual([{ name: 'Recipients', to: [] }, { name: 'Recipients 2', to: [] }])
  })

  it('says that a report without any goes to nobody', async () => {
    expect((await shown([])).page.has('sent to nobody')).toBe(true)
  })
})

const choice = (name: string, more: Record<string, unknown> = {}) => ({ name, title: name, kind: 'choice', default: null, choices: [], depends_on: [], problem: null, ...more })

describe('values of parameters', () => {
  it('are of the kind that the parameter has, and gone when they are empty', async () => {
    answering({ 'POST /dashboards/{name}/choices': [choice('least', { kind: 'number' }), choice('port')] })
    const page = await opened(Values, { props: { modelValue: { port: 'havnes' }, dashboards: ['small'] } })
    const now = () => page.view.emitted('update:modelValue')?.at(-1)?.[0]
    await page.type('least', '3')
    expect(now()).toEqual({ port: 'havnes', least: 3 })
    await page.choose('port', '')
    expect(now()).toEqual({ least: 3 })
  })

  it('that depend on another are asked for anew when that one is chosen', async () => {
    answering({
      'POST /dashboards/{name}/choices': ({ body }: { body: unknown }) => {
        const port = (body as { values: { port?: string } }).values.port
        return [choice('port', { default: 'havnes' }), choice('berth', { default: '1', depends_on: ['port'], choices: [{ value: port === 'ostrey' ? '9' : '1', title: 'Berth' }] }), choice('hosts', { kind: 'list' })]
      },
    })
    const page = await opened(Parameters, { props: { dashboard: 'small' } })
    const chosen = () => page.view.emitted('chosen')?.at(-1)?.[0]
    expect(chosen()).toEqual({ port: 'havnes', berth: '1' })
    await page.choose('berth', '2')
    expect(chosen()).toEqual({ port: 'havnes', berth: '2' })
    await page.choose('port', 'ostrey')
    expect(bodies('POST /dashboards/{name}/choices').at(-1)).toEqual({ values: { port: 'ostrey', berth: '1', hosts: '' } })
    expect(chosen()).toEqual({ port: 'ostrey', berth: '1' })
    await page.type('hosts', 'db-1, db-2')
    expect(chosen()).toEqual({ port: 'ostrey', berth: '1', hosts: ['db-1', 'db-2'] })
  })

  it('say that there are none', async () => {
    answering({ 'POST /dashboards/{name}/choices': [] })
    expect((await opened(Parameters, { props: { dashboard: 'small' } })).has('has no parameters')).toBe(true)
    expect((await opened(Values, { props: { modelValue: {}, dashboards: [] } })).has('Choose dashboards first.')).toBe(true)
  })
})
