import { beforeEach, expect, it, vi } from 'vitest'

import { remember, remembered } from '../src/dashboards/remembered'
import Dashboard from '../src/pages/Dashboard.vue'
import { signOut } from '../src/session'
import { opened, signedIn } from './page'
import { answering, type Part } from './service'

const ESTATE = {
  name: 'estate', title: 'Estate', file: '', summary: null, sections: 1, blocks: 1, block_titles: [], parameters: [], sources: [], used_by: [],
  layout: [{ title: 'Hosts', blocks: [{ title: 'Load', place: { section: 1, block: 1 }, twelfths: 12 }] }],
} satisfies Part<'DashboardView'>

/** A storage with room for so many signs. */
function small(room: number): Storage {
  const all = new Map<string, string>()
  const taken = () => [...all].reduce((sum, [key, value]) => sum + key.length + value.length, 0)
  return {
    get length() {
      return all.size
    },
    key: (n) => [...all.keys()][n] ?? null,
    getItem: (key) => all.get(key) ?? null,
    removeItem: (key) => void all.delete(key),
    clear: () => all.clear(),
    setItem(key, value) {
      if (taken() + key.length + value.length > room) throw new DOMException('full', 'QuotaExceededError')
      all.set(key, value)
    },
  }
}

beforeEach(() => {
  vi.unstubAllGlobals()
  sessionStorage.clear()
  signedIn('author')
})

it('is what was shown last, for its user and what was asked', () => {
  remember('ada', { block: 1 }, '<p>one</p>', '2026-11-29T08:00:00Z')
  expect(remembered('ada', { block: 1 })).toEqual({ page: '<p>one</p>', at: '2026-11-29T08:00:00Z' })
  expect(remembered('ada', { block: 2 })).toBeNull()
  expect(remembered('runa', { block: 1 })).toBeNull()
})

it('lets the oldest go, and what there is no room for', () => {
  for (let n = 0; n < 50; n++) remember('ada', n, 'page', new Date(n * 1000).toISOString())
  expect([9, 10, 49].map((n) => remembered('ada', n)).map((one) => one !== null)).toEqual([false, true, true])
  vi.stubGlobal('sessionStorage', small(1000))
  for (let n = 0; n < 5; n++) remember('ada', n, 'x'.repeat(300), new Date(n * 1000).toISOString())
  expect([0, 1, 2, 3, 4].map((n) => remembered('ada', n) !== null)).toEqual([false, false, false, true, true])
  remember('ada', 'large', 'x'.repeat(2000))
  expect(remembered('ada', 'large')).toBeNull()
})

it('goes when its user signs out, and drafts stay', async () => {
  answering({ 'DELETE /session': { then: null } })
  remember('ada', 1, 'page')
  sessionStorage.setItem('draft of dashboard estate', 'text')
  await signOut()
  expect(remembered('ada', 1)).toBeNull()
  expect(sessionStorage.length).toBe(1)
})

it('is shown while a source takes long, with its time, until the source has answered', async () => {
  let answer = (_: string) => {}
  const slow = new Promise<string>((resolve) => (answer = resolve))
  let first = true
  answering({ 'GET /dashboards': [ESTATE], 'GET /report-names': [], 'POST /preview': () => (first ? ((first = false), '<p>before</p>' as never) : (slow as never)) })
  await opened(Dashboard, { at: '/dashboards/estate' })
  const page = await opened(Dashboard, { at: '/dashboards/estate' })
  expect(page.has('Asking …')).toBe(true)
  await new Promise((done) => setTimeout(done, 1000))
  expect(page.view.find('iframe').attributes('srcdoc')).toContain('before')
  expect(page.has('As it was on')).toBe(true)
  answer('<p>after</p>')
  await new Promise((done) => setTimeout(done, 50))
  expect(page.view.find('iframe').attributes('srcdoc')).toContain('after')
  expect(page.has('As it was on')).toBe(false)
})
