import { describe, expect, it } from 'vitest'

import Agenda from '../src/pages/Agenda.vue'
import Definition from '../src/pages/Definition.vue'
import Overview from '../src/pages/Overview.vue'
import Preview from '../src/parts/Preview.vue'
import Invitation from '../src/users/Invitation.vue'
import { user } from '../src/session'
import { messages, opened, settled, signedIn } from './page'
import { answering, asked, bodies, Refusal, type Asked, type Part } from './service'

/** Time for what waits until nobody types. */
const typed = async (milliseconds: number) => {
  await new Promise((done) => setTimeout(done, milliseconds))
  await settled()
}

describe('the agenda', () => {
  const entry = (more: Part<'AgendaEntry'> = {}): Part<'AgendaEntry'> => ({ report: 'daily', title: 'Ferry daily', state: 'planned', first: '2026-11-28T06:00:00Z', last: '2026-11-28T06:00:00Z', count: 1, note: null, run: null, ...more })
  /** The days that were asked for, the last of them full of entries. */
  const days = ({ address }: Asked, entries: Part<'AgendaEntry'>[]): Part<'Agenda'> => {
    const query = new URLSearchParams(address.split('?')[1])
    const found: Part<'AgendaDay'>[] = []
    for (let at = Date.parse(query.get('from')!); at < Date.parse(query.get('to')!); at += 86_400_000) found.push({ date: new Date(at).toISOString().slice(0, 10), entries: [], named: [] })
    found[found.length - 1] = { ...found.at(-1), entries }
    return { time_zone: 'UTC', days: found }
  }
  const shown = (at: string, ...entries: Part<'AgendaEntry'>[]) => {
    signedIn('viewer')
    answering({ 'GET /agenda': (one) => days(one, entries), 'GET /report-names': [], 'GET /tokens': [] })
    return opened(Agenda, { at })
  }

  it('shows whole weeks of its month, and goes to the next', async () => {
    const page = await shown('/agenda?month=2026-12')
    expect(page.has('December 2026')).toBe(true)
    expect(asked('GET /agenda')[0]!.address).toContain('from=2026-11-30&to=2027-01-04')
    expect(page.view.findAll('.day')).toHaveLength(35)
    await page.press('The month after')
    expect(page.at()).toBe('/agenda?month=2027-01')
    await page.press('Today')
    expect(page.at()).toBe('/agenda')
  })

  it('folds a full day, with what happens all day long last', async () => {
    const often = entry({ report: 'health', title: 'Health', count: 96, last: '2026-11-28T23:45:00Z' })
    const page = await shown('/agenda?month=2026-11', often, entry(), entry(), entry({ count: 2, last: '2026-11-28T18:00:00Z' }), entry(), entry({ note: 'holiday' }))
    const titles = () => page.view.findAll('.day:last-child li').map((one) => one.find('.what').text())
    expect(titles()).toHaveLength(4)
    expect(titles().join()).not.toContain('Health')
    await page.press('2 more')
    expect(titles().at(-1)).toContain('96 × Health')
    expect(titles()[2]).toContain('06:00, 18:00')
  })

  it('leads to the run that was, to all of a day, or to the report', async () => {
    const page = await shown('/agenda?month=2026-11', entry({ run: 'r1' }), entry({ run: 'r2', count: 3, state: 'failed' }), entry())
    const links = page.view.findAll('.day:last-child li a').map((one) => one.attributes('href'))
    // What failed does not stand behind what is to come, however often it was.
    expect(links).toEqual(['/runs/r1', '/runs?report=daily&state=failed', '/reports/daily'])
  })
})

describe('a definition as text', () => {
  const shown = (more: Parameters<typeof answering>[0] = {}) => {
    signedIn('author')
    answering({ 'GET /definitions/{kind}/{name}': { file: 'people/runa.toml', text: '[person]\nname = "runa"\n', based_on: 'v7' }, 'POST /definitions/plan': { changes: [], unchanged: 1 }, ...more })
    return opened(Definition, { at: '/definitions/person/runa' })
  }
  const apply = (page: Awaited<ReturnType<typeof shown>>) => page.view.findAll('button').find((one) => one.text() === 'Apply')!

  it('is checked as it is typed, and cannot be applied while it is wrong', async () => {
    const problem = { file: 'people/runa.toml', line: 3, column: 1, key: 'person.adress', message: 'is not known. Did you mean "address"?' }
    const page = await shown({ 'POST /definitions/plan': new Refusal(422, 'one problem', { problems: [problem] }) })
    await page.type('Text of the definition', '[person]\nname = "runa"\nadress = "x"\n')
    await typed(400)
    expect(page.has('Did you mean "address"?')).toBe(true)
    expect(apply(page).attributes('disabled')).toBeDefined()
    await page.press('Line 3')
    const area = document.querySelector('textarea')!
    expect(area.value.slice(area.selectionStart, area.selectionEnd)).toContain('adress')
  })

  it('shows what it would change, and is applied on what was read', async () => {
    const change = { kind: 'person', name: 'runa', change: 'changed', diff: '-title = "Runa"\n+title = "Runa Holm"' } as const
    const page = await shown({ 'POST /definitions/plan': { changes: [change as never], unchanged: 0 }, 'POST /definitions/apply': {} })
    expect(apply(page).attributes('disabled')).toBeDefined()
    await page.type('Text of the definition', '[person]\nname = "runa"\ntitle = "Runa Holm"\n')
    await typed(400)
    expect(page.view.find('.plus').text()).toContain('Runa Holm')
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(bodies('POST /definitions/apply')).toEqual([{ files: [{ file: 'people/runa.toml', text: '[person]\nname = "runa"\ntitle = "Runa Holm"\n', based_on: 'v7' }], remove_others: false }])
    expect(page.at()).toBe('/delivery')
  })

  it('keeps what was typed when somebody else was faster', async () => {
    const page = await shown({ 'POST /definitions/apply': new Refusal(412, 'Ola saved this at 10:04.') })
    await page.type('Text of the definition', '[person]\nname = "other"\n')
    await typed(400)
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(messages().join()).toContain('Ola saved this at 10:04.')
    expect(document.querySelector('textarea')!.value).toContain('"other"')
  })
})

describe('a preview', () => {
  const ORDER = { dashboard: 'small', time_zone: 'UTC', window: { last: 'PT1H' } }

  it('asks only when it is told to, and lets its page do nothing', async () => {
    signedIn('author')
    answering({ 'POST /preview': '<p>seen</p>' as never })
    const page = await opened(Preview, { props: { order: ORDER } })
    expect(asked()).toEqual([])
    await page.press('Preview')
    expect(bodies('POST /preview')).toEqual([{ ...ORDER, format: 'html' }])
    const frame = page.view.find('iframe')
    expect(frame.attributes('sandbox')).toBe('')
    expect(frame.attributes('srcdoc')).toContain('seen')
  })

  it('says what is wrong, line by line', async () => {
    signedIn('author')
    answering({ 'POST /preview': new Refusal(422, 'two problems', { problems: [{ file: 'd.toml', line: 9, column: 1, key: 'query[1].sql', message: 'no such table' }] }) })
    const page = await opened(Preview, { props: { order: ORDER } })
    await page.press('Preview')
    expect(page.view.find('[role=alert]').text()).toBe('Line 9: query[1].sql no such table')
    expect(page.view.find('iframe').exists()).toBe(false)
  })

  it('of a report shows its blocks as they come, with what is the report’s own', async () => {
    const layout = [{ dashboard: 'estate', title: 'Estate', sections: [{ title: 'Hosts', blocks: [{ title: 'Load', place: { section: 1, block: 2 }, twelfths: 6 }, { title: 'Disks', place: { section: 1, block: 3 }, twelfths: 6 }] }] }]
    answering({ 'POST /preview': (one) => ((one.body as { block: { block: number } }).block.block === 3 ? new Refusal(504, 'the source did not answer') : ('<p>drawn</p>' as never)) })
    const page = await opened(Preview, { props: { order: { report: 'daily', audience: 'Ports' }, layout } })
    expect(bodies('POST /preview')).toEqual([])
    await page.press('Preview')
    expect(bodies('POST /preview')).toEqual([2, 3].map((block) => ({ report: 'daily', audience: 'Ports', dashboard: 'estate', block: { section: 1, block } })))
    expect(page.view.find('iframe[title="Load"]').attributes('srcdoc')).toContain('drawn')
    expect(page.has('◆ the source did not answer')).toBe(true)
    // Without a value that it needs, it is one question with one error.
    const asking = await opened(Preview, { props: { order: { report: 'daily' }, layout, asks: true } })
    answering({ 'POST /preview': new Refusal(422, 'the parameter "port" needs a value') })
    await asking.press('Preview')
    expect(bodies('POST /preview').at(-1)).toEqual({ report: 'daily', values: {}, format: 'html' })
    expect(asking.has('the parameter "port" needs a value')).toBe(true)
  })

  it('takes values of parameters as they are typed', async () => {
    signedIn('author')
    answering({ 'POST /preview': '<p></p>' as never })
    const page = await opened(Preview, { props: { order: ORDER, asks: true } })
    await page.type('Values of parameters', 'port=havnes; least=3')
    await page.press('Preview')
    expect(bodies('POST /preview')).toEqual([{ ...ORDER, values: { port: 'havnes', least: 3 }, format: 'html' }])
  })
})

describe('an invitation', () => {
  const shown = async (hash: string) => {
    user.value = null
    location.hash = hash
    return opened(Invitation, { at: '/invitation' })
  }

  it('takes its secret out of the address, and asks for a password that will do', async () => {
    answering({ 'POST /invitations': { name: 'runa', role: 'author', expires_at: '2026-12-01T10:00:00Z' }, 'POST /invitations/accept': { name: 'runa', role: 'author', teams: [], may_change: [] } })
    const page = await shown('#secret-42')
    expect(bodies('POST /invitations')).toEqual([{ token: 'secret-42' }])
    expect(location.hash).toBe('')
    expect(page.has('You sign in as runa.')).toBe(true)
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(asked('POST /invitations/accept')).toEqual([])
    await page.type('New password', 'five words and a number 7')
    await page.type('The same again', 'five words and a number 7')
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(bodies('POST /invitations/accept')).toEqual([{ token: 'secret-42', password: 'five words and a number 7' }])
    expect(user.value?.name).toBe('runa')
    expect(page.at()).toBe('/')
  })

  it('that is over says so, and offers nothing', async () => {
    answering({ 'POST /invitations': new Refusal(404, 'The link is not good any more.') })
    const page = await shown('#old')
    expect(page.has('The link is not good any more.')).toBe(true)
    expect(page.view.find('[type=password]').exists()).toBe(false)
  })
})

describe('the overview', () => {
  it('says first how things are, and what needs a look', async () => {
    signedIn('viewer')
    const run = { id: 'r1', title: 'Ferry daily', state: 'failed', problem: 'db-2 does not answer', window: { label: '27 Nov 2026' }, created_at: '2026-11-28T06:00:00Z' } as const
    answering({ 'GET /overview': { status: 'critical', sentence: 'One report failed', attention: [run as never], next: [], recent: [] }, 'GET /report-names': [], 'GET /sources': [] })
    const page = await opened(Overview, { at: '/' })
    expect(page.view.find('h1').text()).toBe('One report failed')
    expect(page.view.find('[aria-labelledby=attention]').text()).toContain('db-2 does not answer')
    expect(page.has('No report has a schedule that is not paused.')).toBe(true)
    // What to do first is for those who may do it.
    expect(page.has('Your first report')).toBe(false)
  })
})
