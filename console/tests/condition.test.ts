import { beforeEach, describe, expect, it } from 'vitest'

import Condition from '../src/pages/Condition.vue'
import { opened, signedIn } from './page'
import { answering, asked, Refusal } from './service'

const LOOK = 'GET /condition'
const finding = (what: string, stands: 'ok' | 'warning' | 'problem', remedy: string | null = null) => ({ what, stands, words: `${what} in words`, remedy })
beforeEach(() => signedIn())

describe('the condition of the service', () => {
  it('says first what is wrong, and what to do about it', async () => {
    answering({ [LOOK]: { looked_at: '2026-11-28T10:00:00Z', findings: [finding('engine', 'ok'), finding('browser', 'warning', 'Install it.'), finding('mail server', 'problem', 'Check the host.')] } })
    const page = await opened(Condition, { at: '/condition' })
    expect(page.view.find('h2').text()).toBe('1 problem and 1 warning.')
    const rows = page.view.findAll('tbody tr').map((row) => row.findAll('td')[1]!.text())
    expect(rows).toEqual(['mail server', 'browser', 'engine'])
    expect(page.has('→ Check the host.')).toBe(true)
  })

  it('is well when nothing is wrong, and looks again when it is told to', async () => {
    answering({ [LOOK]: { looked_at: '2026-11-28T10:00:00Z', findings: [finding('engine', 'ok')] } })
    const page = await opened(Condition, { at: '/condition' })
    expect(page.has('Everything is as it should be.')).toBe(true)
    answering({ [LOOK]: { looked_at: '2026-11-28T10:01:00Z', findings: [finding('room', 'warning', 'Make room.'), finding('room', 'warning', 'Make room.')] } })
    await page.press('Look again')
    expect(page.has('2 warnings.')).toBe(true)
    expect(asked(LOOK).length).toBe(2)
  })

  it('says why it cannot be looked at', async () => {
    answering({ [LOOK]: new Refusal(403, 'this takes an administrator') })
    const page = await opened(Condition, { at: '/condition' })
    expect(page.has('this takes an administrator')).toBe(true)
  })
})
