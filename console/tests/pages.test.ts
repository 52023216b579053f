import { describe, expect, it } from 'vitest'

import type { Component } from 'vue'

import App from '../src/App.vue'
import Definitions from '../src/definitions/Definitions.vue'
import Delivery from '../src/pages/Delivery.vue'
import Run from '../src/pages/Run.vue'
import Schedule from '../src/pages/Schedule.vue'
import Sources from '../src/pages/Sources.vue'
import History from '../src/parts/History.vue'
import Subscribe from '../src/parts/Subscribe.vue'
import Publish from '../src/published/Publish.vue'
import Template from '../src/templates/Template.vue'
import { HELD_PAGES, isHeld, user } from '../src/session'
import { answer, messages, opened, questions, settled, signedIn } from './page'
import { answering, asked, bodies, Events, Refusal, type Part } from './service'

describe('the page of a run', () => {
  const delivery = (id: string, more: Part<'DeliveryView'> = {}): Part<'DeliveryView'> => ({ id, recipient: `${id}@orrin-sound.example`, audience: 'Office', state: 'accepted', copy: 0, attempts: [], channel: 'mail', role: 'to', variant: '', ...more })
  const run = (more: Part<'RunView'> = {}): Part<'RunView'> => ({ id: 'r1', report: 'daily', title: 'Ferry daily', state: 'awaiting-approval', settled: true, good: true, window: { label: '27 Nov 2026', exact: '27 Nov 2026, 00:00 to 24:00', time_zone: 'UTC' }, links: [], cause: 'schedule', steps: [], snapshots: [{ id: 'sn1', audiences: ['Office'], sha256: 'abc' }], documents: [], deliveries: [], problem: null, kept: null, created_at: '2026-11-28T06:00:00Z', ...more })
  const shown = (now: Part<'RunView'> | Refusal, role: 'author' | 'viewer' = 'author') => {
    signedIn(role)
    answering({ 'GET /runs/{id}': now, 'GET /runs/{id}/definitions': [], 'GET /runs/{id}/failed-pages': [] })
    return opened(Run, { at: '/runs/r1' })
  }

  it('sends what waits for approval only after it was said to whom', async () => {
    const page = await shown(run())
    answering({ 'POST /runs/{id}/release': run({ state: 'delivered' }) })
    const button = page.view.findAll('button').map((one) => one.text()).find((text) => /^(Approve|Send)/.test(text))!
    await page.press(button)
    expect(await answer('Cancel')).toContain('to Office')
    expect(asked()).toEqual([])
    await page.press(button)
    await answer('Send')
    expect(asked('POST /runs/{id}/release')).toHaveLength(1)
  })

  it('is followed while it is under way, and no longer', async () => {
    const page = await shown(run({ state: 'collecting', settled: false }))
    expect(Events.all).toHaveLength(1)
    Events.all[0]!.say('run', run({ state: 'failed', settled: true, good: false, problem: 'db-2 does not answer' }))
    await settled()
    expect(page.has('db-2 does not answer')).toBe(true)
    expect(Events.all[0]!.closed).toBe(true)
  })

  it('finds one of thousands of recipients', async () => {
    const page = await shown(run({ state: 'delivered', deliveries: Array.from({ length: 60 }, (_, index) => delivery(`p${String(index).padStart(2, '0')}`)) }))
    const rows = () => page.view.findAll('tbody tr').filter((row) => row.text().includes('@orrin-sound.example'))
    expect(rows().length).toBeLessThanOrEqual(50)
    await page.type('Find a recipient', 'p59')
    expect(rows()).toHaveLength(1)
  })

  it('shows the documents as the report has them, and by themselves those that somebody reads otherwise', async () => {
    const document = (id: string, format: 'pdf' | 'html', variant = ''): Part<'DocumentView'> => ({ id, snapshot_id: 'sn1', format, variant, file_name: `${id}.${format}`, media_type: 'application/pdf', size: 2048, sha256: 'abc', removed_at: null })
    const page = await shown(run({ state: 'delivered', documents: [document('d1', 'pdf'), document('d2', 'html'), document('d3', 'pdf', '1.234,5 2026-11-22')] }))
    const groups = page.view.findAll('.tabs').map((group) => [group.attributes('aria-label'), group.findAll('button').map((one) => one.text())])
    expect(groups).toEqual([
      ['Show a document', ['PDF', 'HTML']],
      ['Show a document as read with 1.234,5 2026-11-22', ['PDF']],
    ])
    expect(page.view.find('iframe').attributes('src')).toContain('/d1')
    await page.view.findAll('.tabs')[1]!.find('button').trigger('click')
    expect(page.view.find('iframe').attributes('src')).toContain('/d3')
  })

  it('reads the log only once somebody opens it, a page at a time', async () => {
    const page = await shown(run({ settled: false }))
    expect(asked('GET /runs/{id}/log')).toEqual([])
    const line = (text: string) => ({ at: '2026-11-28T06:00:00Z', level: 'warn', text })
    answering({ 'GET /runs/{id}/log': { items: [line('the source is slow')], total: 120, page: 1, size: 100 } })
    const details = page.view.find('details.log')
    const element = details.element as HTMLDetailsElement
    // Opening tells of itself.
    element.open = true
    await settled()
    expect(page.has('the source is slow')).toBe(true)
    expect(details.find('.el-pagination').exists()).toBe(true)
    answering({ 'GET /runs/{id}/log': { items: [], total: 0, page: 1, size: 100 } })
    await page.press('Read again')
    await settled()
    expect(page.has('The log says nothing of this run.')).toBe(true)
    expect(asked('GET /runs/{id}/log')).toHaveLength(2)
    const viewed = await shown(run(), 'viewer')
    expect(viewed.view.find('details.log').exists()).toBe(false)
  })

  it('asks nothing of definitions for viewers, and lets them change nothing', async () => {
    const page = await shown(run(), 'viewer')
    expect(asked('GET /runs/{id}/definitions')).toEqual([])
    expect(page.has('Awaiting approval')).toBe(true)
    expect(page.view.findAll('button').map((one) => one.text())).toEqual([])
    expect(page.text()).not.toMatch(/approve/)
  })

  it('says when there is no such run', async () => {
    expect((await shown(new Refusal(404, 'There is no run r1.'))).has('There is no run r1.')).toBe(true)
  })
})

describe('the page of a schedule', () => {
  const KEYS = { time_zone: 'Atlantic/Faroe', schedule: { every: 'day', at: ['06:00'] }, window: { previous: 'day' } }
  const shown = (explained: Part<'Explained'>) => {
    signedIn('author')
    answering({ 'GET /reports/{name}/schedule': KEYS, 'GET /reports/{name}': { name: 'daily', title: 'Ferry daily' }, 'GET /calendars': [], 'POST /schedules/explain': explained })
    return opened(Schedule, { at: '/reports/daily/schedule' })
  }
  const EXPLAINED: Part<'Explained'> = { schedule: 'Every day at 06:00', window: 'the previous day', instants: [{ at: '2026-11-29T06:00:00Z', local: '2026-11-29T06:00:00+00:00', reader: null, window: null, window_label: '28 Nov 2026', compared_with_label: null }], left_out: [] }
  const said = async () => {
    await new Promise((done) => setTimeout(done, 300))
    await settled()
  }

  it('says what it means, as the service understands it', async () => {
    const page = await shown(EXPLAINED)
    await said()
    expect(page.has('Every day at 06:00')).toBe(true)
    expect(page.has('28 Nov 2026')).toBe(true)
    expect((bodies('POST /schedules/explain')[0] as { time_zone: string }).time_zone).toBe('Atlantic/Faroe')
  })

  it('says what is wrong, and leaves the last good meaning in sight', async () => {
    const page = await shown(EXPLAINED)
    await said()
    answering({ 'POST /schedules/explain': new Refusal(422, '“soon” is no length of time.') })
    await page.type('Settling lag', 'soon').catch(async () => {
      const lag = page.view.findAll('label').find((one) => one.text().startsWith('Settling lag'))!.find('input')
      await lag.setValue('soon')
    })
    await said()
    expect(page.has('“soon” is no length of time.')).toBe(true)
    expect(page.view.find('.old').text()).toContain('Every day at 06:00')
  })

  it('is saved on what was read, and says so if somebody else saved meanwhile', async () => {
    const page = await shown(EXPLAINED)
    await said()
    answering({ 'PUT /reports/{name}/schedule': new Refusal(412, 'Ola saved this at 10:04.') })
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(asked('PUT /reports/{name}/schedule')[0]!.match).toBe('"1"')
    expect(page.has('Ola saved this at 10:04.') || messages().join().includes('Ola saved this at 10:04.')).toBe(true)
    expect(page.at()).toBe('/reports/daily/schedule')
  })
})

describe('what pages offer', () => {
  const SOURCE: Part<'SourceView'> = { name: 'shop', title: 'Shop', kind: 'postgresql', address: 'db1', timeout_seconds: 30, row_limit: 1000, used_by: [] }
  const offered = async (page: Component, at: string) => {
    const shown = await opened(page, { at })
    const found = shown.view.findAll('button, a').map((one) => one.attributes('aria-label') ?? one.text())
    shown.view.unmount()
    return found
  }
  const LISTS = () =>
    answering({
      'GET /sources': [SOURCE],
      'GET /samplers': [],
      'GET /channels': [{ name: 'share', title: 'Share', kind: 'folder', place: '/srv', used_by: [], waiting: 0 }],
      'GET /people': { people: [], groups: [], bounced: [], unsubscribes: [{ address: 'a@orrin-sound.example', report: 'daily', unsubscribed_at: '2026-11-28T10:00:00Z' }] },
      'GET /notices': [],
      'GET /definitions/names': [{ kind: 'source', name: 'shop', title: 'Shop', file: 'sources/shop.toml', saved_at: '2026-11-28T10:00:00Z', saved_by: 'ada' }],
    })

  it('is what the role may do, and nothing that the service would refuse', async () => {
    LISTS()
    signedIn('viewer')
    expect(await offered(Sources, '/sources')).toEqual([])
    expect(await offered(Delivery, '/delivery')).toEqual([])
    expect(asked('GET /people')).toEqual([])
    signedIn('author')
    expect(await offered(Sources, '/sources')).toEqual(['Test Shop', 'Browse and query', 'Browse and query'])
    expect(await offered(Delivery, '/delivery')).toEqual(['Test Share', 'New person', 'New person', 'New group', 'New group'])
    expect(await offered(Definitions, '/definitions')).not.toContain('Remove Shop')
    signedIn('administrator')
    expect(await offered(Sources, '/sources')).toContain('Edit')
    expect(await offered(Delivery, '/delivery')).toContain('Resubscribe')
    expect(await offered(Definitions, '/definitions')).toContain('Remove Shop')
  })

  it('follows the configuration where it lets authors do more', async () => {
    LISTS()
    signedIn('author', { may_change: ['source', 'report'] })
    expect(await offered(Sources, '/sources')).toContain('New source')
    expect(await offered(Definitions, '/definitions')).toContain('Remove Shop')
  })
})

describe('the page of delivery', () => {
  const channel = (name: string, kind: string): Part<'ChannelView'> => ({ name, title: name || 'Mail server', kind, place: 'somewhere', used_by: [], waiting: 0, oldest: null })
  const shown = () => {
    signedIn()
    answering({ 'GET /channels': [channel('', 'mail-server'), channel('share', 'folder')], 'GET /people': { people: [], groups: [], bounced: [], unsubscribes: [] }, 'GET /notices': [] })
    return opened(Delivery, { at: '/delivery' })
  }
  const STEPS = { steps: [{ name: 'connect', works: true, words: 'reached', remedy: null }, { name: 'sign in', works: false, words: 'refused', remedy: 'Check the password.' }] }

  it('tests a mail server with a mail to somebody, whom it knows the next time', async () => {
    const page = await shown()
    answering({ 'POST /mail-server/test': STEPS })
    await page.press('Test Mail server')
    await answer('Send a test mail', 'ada@orrin-sound.example')
    expect(bodies('POST /mail-server/test')).toEqual([{ to: 'ada@orrin-sound.example' }])
    expect(page.has('Check the password.')).toBe(true)
    expect(localStorage.getItem('test-mail-to')).toBe('ada@orrin-sound.example')
  })

  it('tests a folder without asking', async () => {
    const page = await shown()
    answering({ 'POST /channels/{name}/test': STEPS })
    await page.press('Test share')
    expect(questions()).toBe(0)
    expect(bodies('POST /channels/{name}/test')).toEqual([{ to: null }])
  })

  it('says where to begin if there is no channel', async () => {
    signedIn()
    answering({ 'GET /channels': [], 'GET /people': { people: [], groups: [], bounced: [], unsubscribes: [] }, 'GET /notices': [] })
    expect((await opened(Delivery, { at: '/delivery' })).has('There is no mail server and no channel yet.')).toBe(true)
  })
})

describe('the history of a definition', () => {
  const version = (number: number, more: Part<'DefinitionVersion'> = {}): Part<'DefinitionVersion'> => ({ version: number, saved_at: '2026-11-28T10:00:00Z', saved_by: 'ada', saved_from: 'console', diff: '+a\n-b', message: null, removed: false, ...more })
  const VERSIONS = 'GET /definitions/{kind}/{name}/versions'

  it('restores an earlier version after asking, and never the current one', async () => {
    signedIn('author')
    answering({ [VERSIONS]: { items: [version(3), version(2), version(1, { removed: true })], page: 1, size: 10 }, 'POST /definitions/{kind}/{name}/versions/{version}/restore': {} })
    const page = await opened(History, { props: { kind: 'report', name: 'daily' } })
    expect(page.view.findAll('button').map((one) => one.text())).toEqual(['Restore version 2 …'])
    await page.press('Restore version 2 …')
    expect(await answer('Cancel')).toContain('the versions in between stay')
    expect(asked()).toEqual([])
    await page.press('Restore version 2 …')
    await answer('Restore')
    expect(asked()[0]!.address).toBe('/definitions/report/daily/versions/2/restore')
    expect(page.view.emitted('restored')).toHaveLength(1)
  })

  it('is read on where there is more', async () => {
    signedIn('author')
    answering({ [VERSIONS]: ({ address }: { address: string }) => (address.includes('page=2') ? { items: [version(1)], page: 2, size: 2 } : { items: [version(3), version(2)], page: 1, size: 2 }) })
    const page = await opened(History, { props: { kind: 'report', name: 'daily' } })
    await page.press('Show earlier versions')
    expect(page.view.findAll('details')).toHaveLength(3)
    expect(page.has('Show earlier versions')).toBe(false)
  })
})

describe('the agenda in a calendar program', () => {
  it('has its address shown once, and is ended after asking', async () => {
    signedIn('viewer')
    answering({ 'GET /tokens': [{ id: 't1', scope: 'agenda', created_at: '2026-11-28T10:00:00Z', last_used_at: null }, { id: 't2', scope: 'read', created_at: '2026-11-28T10:00:00Z', last_used_at: null }], 'POST /agenda/feed': { address: 'http://lark.test/agenda.ics?token=abc' }, 'DELETE /tokens/{id}': undefined })
    const page = await opened(Subscribe, { props: {} })
    await page.press('Subscribe …')
    await page.press('Make an address')
    const address = () => document.querySelector<HTMLInputElement>('[aria-label="Address of the calendar"]')
    expect(address()!.value).toContain('token=abc')
    expect([...document.querySelectorAll('.el-dialog tbody tr')]).toHaveLength(1)
    await page.press('Revoke')
    await answer('Cancel')
    expect(asked('DELETE /tokens/{id}')).toEqual([])
    await page.press('Revoke')
    await answer('Revoke')
    expect(asked('DELETE /tokens/{id}')[0]!.address).toBe('/tokens/t1')
    expect(address()).toBeNull()
  })
})

describe('what is published', () => {
  it('fixes the values but for those that can be chosen', async () => {
    signedIn('author')
    answering({ 'POST /dashboards/{name}/choices': [{ name: 'port', title: 'Port', kind: 'choice', choices: [{ value: 'havnes', title: 'Havnes' }], default: null, depends_on: [] }, { name: 'hosts', title: 'Hosts', kind: 'list', choices: [], default: null, depends_on: [] }], 'POST /views': { address: 'http://lark.test/view/v1?key=abc', signed_in: false, has_password: true } })
    const page = await opened(Publish, { props: { subject: { dashboard: 'small', values: { port: 'ostrey', least: 3 } }, title: 'Small' } })
    await page.press('Publish …')
    await page.type('Password', 'four words')
    await page.choose('Port: values to choose from', ['havnes', 'ostrey'])
    document.querySelector<HTMLFormElement>('#publish')!.requestSubmit()
    await settled()
    expect(bodies('POST /views')).toEqual([{ dashboard: 'small', values: { least: 3 }, choices: { port: ['havnes', 'ostrey'] }, signed_in: false, title: 'Small', days: 30, password: 'four words' }])
    expect(page.has('Published for whoever has the address and the password.')).toBe(true)
    expect(page.has('http://lark.test/view/v1?key=abc')).toBe(true)
  })

  it('keeps what was typed when it is refused', async () => {
    signedIn('author')
    answering({ 'POST /views': new Refusal(422, 'The password is too short.') })
    const page = await opened(Publish, { props: { subject: { snapshot: 'sn1' }, title: 'Yesterday' } })
    await page.press('Publish …')
    await page.type('Password', 'x')
    document.querySelector<HTMLFormElement>('#publish')!.requestSubmit()
    await settled()
    expect(page.has('The password is too short.')).toBe(true)
    expect(document.querySelector<HTMLInputElement>('[name=view-password]')!.value).toBe('x')
  })
})

describe('the page of a ready-made report', () => {
  const TEMPLATE: Part<'TemplateView'> = { name: 'largest-tables', title: 'Largest tables', question: 'What fills the database?', needs: null, instructions: null, source_kind: 'postgresql', inputs: [], blocks: [], purpose: 'capacity', purpose_title: 'Capacity', samplers: 0, own: false, used_by: [], version: 1 }
  const shown = (...sources: Part<'SourceView'>[]) => {
    signedIn('author')
    answering({ 'GET /templates/{name}': TEMPLATE, 'GET /sources': sources, 'GET /people': { people: [], groups: [] }, 'POST /templates/{name}/fill': { files: [] } })
    return opened(Template, { at: '/templates/largest-tables' })
  }

  it('takes the one source that fits, and no other', async () => {
    await shown({ name: 'shop', title: 'Shop', kind: 'postgresql' }, { name: 'files', title: 'Files', kind: 'files' })
    expect(JSON.parse(sessionStorage.getItem('draft template largest-tables') ?? '{}').source).toBe('shop')
  })

  it('leaves the choice where several fit', async () => {
    await shown({ name: 'shop', title: 'Shop', kind: 'postgresql' }, { name: 'till', title: 'Till', kind: 'postgresql' })
    expect(JSON.parse(sessionStorage.getItem('draft template largest-tables') ?? '{}').source ?? '').toBe('')
  })
})

describe('the frame around pages', () => {
  const places = async (role: 'viewer' | 'author' | 'administrator') => {
    signedIn(role)
    const page = await opened(App, { props: {} })
    const found = page.view.findAll('nav a').map((one) => one.text())
    page.view.unmount()
    return found
  }

  it('leads each to what is theirs', async () => {
    const [viewer, author, administrator] = [await places('viewer'), await places('author'), await places('administrator')]
    expect(viewer).toContain('Published')
    expect(viewer).not.toContain('Definitions')
    expect(author).toContain('Definitions')
    expect(author).not.toContain('Users')
    expect(administrator).toContain('Users')
    expect(administrator).not.toContain('Mailbox')
  })

  it('begins with a way past the navigation, and signs out', async () => {
    signedIn('viewer')
    answering({ 'DELETE /session': { then: null } })
    const page = await opened(App, { props: {} })
    expect(page.view.find('a').attributes('href')).toBe('#content')
    await page.press('Sign out')
    expect(asked('DELETE /session')).toHaveLength(1)
    expect(user.value).toBeNull()
    expect(page.at()).toBe('/sign-in')
  })

  it('has for whoever is held to values the pages that show theirs alone', async () => {
    signedIn('viewer', { held_to: { port: ['havnes'] } })
    const page = await opened(App, { props: {} })
    expect([...new Set(page.view.findAll('nav a').map((link) => link.text()))]).toEqual(['Archive', 'Published'])
    expect(HELD_PAGES).toContain('account')
    expect(isHeld.value).toBe(true)
    signedIn('viewer')
    expect(isHeld.value).toBe(false)
  })

  it('keeps whether it is light or dark', async () => {
    signedIn('viewer')
    const page = await opened(App, { props: {} })
    await page.press('Use the dark look')
    expect(document.documentElement.classList.contains('dark')).toBe(true)
    expect(localStorage.getItem('look')).toBe('dark')
    await page.press('Use the light look')
    expect(document.documentElement.classList.contains('dark')).toBe(false)
  })
})
