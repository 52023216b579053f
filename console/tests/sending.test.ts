import { describe, expect, it } from 'vitest'

import RunNow from '../src/parts/RunNow.vue'
import SendAgain from '../src/parts/SendAgain.vue'
import { answer, messages, opened, questions, settled } from './page'
import type { Schemas } from '../src/api/client'
import { answering, asked, bodies, Events, Refusal, type Part } from './service'

const BEGIN = 'POST /reports/{name}/runs'
const audience = (name: string, recipients: string[], values: string[] = []): Part<'AudienceView'> => ({ name, recipients, values, channels: [] })
const report = (more: Part<'ReportView'> = {}): Part<'ReportView'> => ({ name: 'daily', title: 'Ferry daily', audiences: [audience('Office', ['runa@orrin-sound.example', 'ola@orrin-sound.example'])], audiences_from: [], ...more })
const run = (more: Part<'RunView'> = {}): Part<'RunView'> => ({ id: 'r1', title: 'Ferry daily', state: 'collecting', settled: false, good: true, steps: [], ...more })

describe('a run that is asked for', () => {
  it('sends only after it was said who gets it', async () => {
    answering({ [BEGIN]: run() })
    const page = await opened(RunNow, { props: { report: report() } })
    await page.press('Run and send …')
    expect(await answer('Cancel')).toMatch(/sends a mail to .*Office/)
    expect(asked()).toEqual([])
    await page.press('Run and send …')
    await answer('Run and send')
    expect(bodies(BEGIN)).toEqual([{ deliver: true, to: [] }])
  })

  it('without sending asks nothing and reaches nobody', async () => {
    answering({ [BEGIN]: run() })
    const page = await opened(RunNow, { props: { report: report() } })
    await page.press('Run without sending')
    expect(questions()).toBe(0)
    expect(bodies(BEGIN)).toEqual([{ deliver: false, to: [] }])
  })

  it('goes to me alone; with several audiences one says whose view', async () => {
    answering({ [BEGIN]: run() })
    const one = await opened(RunNow, { props: { report: report() } })
    await one.press('Send to me')
    expect(bodies(BEGIN)).toEqual([{ deliver: true, to: ['me'] }])
    one.view.unmount()

    const two = [audience('Havnes', ['a@orrin-sound.example'], ['Port: Havnes']), audience('Ostrey', ['b@orrin-sound.example'])]
    const page = await opened(RunNow, { props: { report: report({ audiences: two }) } })
    await page.press('Send to me')
    expect(page.has('As seen by Havnes (Port: Havnes)')).toBe(true)
    await page.press('As seen by Ostrey')
    document.querySelector('form')!.requestSubmit()
    await settled()
    expect(bodies(BEGIN).at(-1)).toEqual({ deliver: true, to: ['me'], audience: 'Ostrey' })
  })

  it('cannot be sent to anybody where there is no audience', async () => {
    const page = await opened(RunNow, { props: { report: report({ audiences: [] }) } })
    expect(page.has('Run and send')).toBe(false)
    expect(page.has('Send to me')).toBe(true)
  })

  it('is followed to its end, and complains only of a bad one', async () => {
    answering({ [BEGIN]: run() })
    const page = await opened(RunNow, { props: { report: report() } })
    await page.press('Run without sending')
    const events = Events.all.at(-1)!
    expect(events.address).toBe('/api/v1/runs/r1/events')
    events.say('run', run({ state: 'rendering' }))
    await settled()
    expect(page.has('Rendering')).toBe(true)
    expect(page.view.emitted('changed')).toBeUndefined()
    events.say('run', run({ state: 'failed', settled: true, good: false, problem: 'db-2 does not answer' }))
    await settled()
    expect(events.closed).toBe(true)
    expect(page.view.emitted('changed')).toHaveLength(1)
    expect(messages().join()).toContain('Ferry daily: db-2 does not answer')
  })

  it('is followed no longer than its page is open', async () => {
    answering({ [BEGIN]: run() })
    const page = await opened(RunNow, { props: { report: report() } })
    await page.press('Run without sending')
    page.view.unmount()
    expect(Events.all.at(-1)!.closed).toBe(true)
  })

  it('that is refused is said in the service’s words', async () => {
    answering({ [BEGIN]: new Refusal(409, 'It runs already.') })
    const page = await opened(RunNow, { props: { report: report() } })
    await page.press('Run without sending')
    expect(messages().join()).toContain('It runs already.')
    expect(Events.all).toEqual([])
  })
})

describe('a run that is sent again', () => {
  const RESEND = 'POST /runs/{id}/resends'
  const delivery = (id: string, recipient: string, state: Schemas['DeliveryState'], more: Part<'DeliveryView'> = {}): Part<'DeliveryView'> => ({ id, recipient, state, audience: 'Office', copy: 0, ...more })
  const sent: Part<'RunView'> & { deliveries: Part<'DeliveryView'>[] } = { id: 'r1', deliveries: [delivery('d1', 'a@orrin-sound.example', 'accepted'), delivery('d2', 'b@orrin-sound.example', 'bounced'), delivery('d3', 'c@orrin-sound.example', 'refused', { copy: 1 })] }

  it('begins with those whom it did not reach', async () => {
    answering({ [RESEND]: sent })
    const page = await opened(SendAgain, { props: { run: sent } })
    await page.press('Send again …')
    await page.press('Send 1 copy')
    expect(bodies(RESEND)).toEqual([{ deliveries: ['d2'], to: [], audience: null, note: null }])
    expect(page.view.emitted('sent')).toHaveLength(1)
  })

  it('goes to somebody else with what an audience sees, and a note', async () => {
    answering({ [RESEND]: sent })
    const page = await opened(SendAgain, { props: { run: { ...sent, deliveries: [sent.deliveries[0]] } } })
    await page.press('Send again …')
    await page.type('Somebody else, this one time', 'x@orrin-sound.example, me')
    await page.type('A note at the top of the mail', 'as asked')
    await page.press('Send 2 copies')
    expect(bodies(RESEND)).toEqual([{ deliveries: [], to: ['x@orrin-sound.example', 'me'], audience: 'Office', note: 'as asked' }])
  })

  it('stays open with what was typed if it is refused', async () => {
    answering({ [RESEND]: new Refusal(422, 'Nobody is called x.') })
    const page = await opened(SendAgain, { props: { run: sent } })
    await page.press('Send again …')
    await page.type('Somebody else, this one time', 'x')
    await page.press('Send 2 copies')
    expect(messages().join()).toContain('Nobody is called x.')
    expect(document.querySelector<HTMLInputElement>('[aria-label="Somebody else, this one time"]')!.value).toBe('x')
  })
})
