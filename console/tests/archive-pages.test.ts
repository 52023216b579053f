import { describe, expect, it } from 'vitest'

import Archive from '../src/archive/Archive.vue'
import Keeping from '../src/archive/Keeping.vue'
import KeepRun from '../src/parts/KeepRun.vue'
import Audit from '../src/users/Audit.vue'
import { answer, messages, opened, questions, settled, signedIn } from './page'
import { answering, asked, bodies, Refusal, type Part } from './service'

const file = (id: string, more: Part<'DocumentView'> = {}): Part<'DocumentView'> => ({ id, snapshot_id: 'sn1', file_name: `${id}.pdf`, format: 'pdf', size: 2048, variant: '', removed_at: null, ...more })
const made = (document: Part<'DocumentView'>, more: Part<'ArchiveEntry'> = {}): Part<'ArchiveEntry'> => ({ document, run: 'r1', report: 'daily', title: 'Ferry daily', window: '24 Nov 2026', made_at: '2026-11-25T06:00:00Z', status: 'critical', sent: 1, found: [], ...more })
const found = (...items: Part<'ArchiveEntry'>[]) => ({ items, total: items.length, more: false, page: 1, size: 24 })

describe('the archive', () => {
  const shown = (at: string, ...items: Part<'ArchiveEntry'>[]) => {
    signedIn('viewer')
    answering({ 'GET /archive': found(...items), 'GET /report-names': [{ name: 'daily', title: 'Ferry daily' }] })
    return opened(Archive, { at })
  }

  it('asks for what stands in its address, and keeps there what is asked for', async () => {
    const page = await shown('/archive?words=db-2&status=critical', made(file('a')))
    expect(asked('GET /archive')[0]!.address).toMatch(/words=db-2/)
    expect(asked('GET /archive')[0]!.address).toMatch(/status=critical/)
    await page.choose('Format', 'csv')
    expect(asked('GET /archive').at(-1)!.address).toMatch(/format=csv/)
    expect(page.at()).toContain('format=csv')
    expect(page.at()).toContain('words=db-2')
  })

  it('takes as a ZIP what the list shows, and not more', async () => {
    const page = await shown('/archive?words=db-2', made(file('a')))
    expect(page.view.find('a[download]').attributes('href')).toMatch(/^\/api\/v1\/archive\.zip\?.*words=db-2/)
  })

  it('has no link to what went, but says that it was made', async () => {
    const page = await shown('/archive', made(file('a', { removed_at: '2026-11-26T06:00:00Z' })), made(file('b'), { run: 'r2' }))
    expect(page.view.findAll('.files a').map((one) => one.text())).toEqual(['b.pdf'])
    expect(page.text()).toMatch(/a\.pdf went /)
  })

  it('marks the words that were found', async () => {
    const page = await shown('/archive?words=db-2', made(file('a'), { found: [{ text: 'disk of ', hit: false }, { text: 'db-2', hit: true }] }))
    expect(page.view.findAll('mark').map((one) => one.text())).toEqual(['db-2'])
  })

  it('shows front pages side by side, one for each view', async () => {
    const page = await shown('/archive?view=fronts', made(file('a')), made(file('b')))
    const pictures = page.view.findAll('.fronts img')
    expect(pictures).toHaveLength(1)
    expect(pictures[0]!.attributes('alt')).toBe('First page of Ferry daily, 24 Nov 2026')
  })

  it('says that nothing was found', async () => {
    expect((await shown('/archive?words=nothing')).has('Nothing that fits was made.')).toBe(true)
  })
})

describe('how long things are kept', () => {
  const empty = { items: [], total: 0, page: 1, size: 20 }
  const shown = (going: Part<'GoingList'> = {}) => {
    signedIn()
    answering({ 'GET /keeping': { policy: {}, set_by: null, set_at: null, with_documents: 3, runs: 4, document_bytes: 1000, snapshot_bytes: 2000, reports: [] }, 'GET /keeping/going': { items: [], until: '2026-12-05T00:00:00Z', bytes: 0, more: false, ...going }, 'GET /keeping/kept': empty, 'GET /keeping/gone': empty, 'PUT /keeping': undefined })
    return opened(Keeping, { at: '/archive/kept' })
  }
  const one: Part<'GoingView'> = { run: 'r1', report: 'daily', ended_at: '2026-01-01T00:00:00Z', what: 'documents', why: 'age', bytes: 4096 }

  it('says what goes at once before it is set, and sets nothing if that is too much', async () => {
    const page = await shown()
    answering({ 'POST /keeping/plan': { items: [one], until: '2026-11-28T00:00:00Z', more: false } })
    await page.type('Documents', '30 days')
    await page.press('Set …')
    expect(await answer('Cancel')).toContain('At once these go, and cannot be got back')
    expect(asked('PUT /keeping')).toEqual([])
    await page.press('Set …')
    await answer('Set it')
    expect(bodies('PUT /keeping')).toEqual(bodies('POST /keeping/plan').slice(-1))
    expect(messages().join()).toContain('is set')
  })

  it('has nothing to set until something is changed', async () => {
    const page = await shown()
    const set = () => page.view.findAll('button').find((button) => button.text() === 'Set …')!.attributes('disabled')
    expect(set()).toBeDefined()
    await page.type('Snapshots', '1 year')
    expect(set()).toBeUndefined()
    await page.type('Snapshots', '')
    expect(set()).toBeDefined()
  })

  it('says which length the service does not understand, and asks nothing then', async () => {
    const page = await shown()
    answering({ 'POST /keeping/plan': new Refusal(422, '“soon” is no length of time.') })
    await page.type('Documents', 'soon')
    await page.press('Set …')
    expect(page.has('“soon” is no length of time.')).toBe(true)
    expect(questions()).toBe(0)
  })

  it('lists what goes next with the reason', async () => {
    const page = await shown({ items: [one] })
    expect(page.view.find('[aria-labelledby=next] tbody').text()).toContain('daily')
    expect(page.has('Nothing goes until')).toBe(false)
  })
})

describe('a run that is kept for good', () => {
  const KEEP = 'PUT /runs/{id}/keep'

  it('needs a reason', async () => {
    signedIn('author')
    answering({ [KEEP]: { id: 'r1' } })
    const page = await opened(KeepRun, { props: { run: { id: 'r1', kept: null } } })
    await page.press('Keep for good …')
    expect(await answer('Keep', '  ')).toContain('Nothing of this run goes then')
    expect(asked()).toEqual([])
    await answer('Keep', 'audit of 2026')
    expect(bodies(KEEP)).toEqual([{ because: 'audit of 2026' }])
  })

  it('is let go by whoever keeps it or an administrator alone', async () => {
    const run = { id: 'r1', kept: { by: 'runa', at: '2026-11-01T00:00:00Z', because: 'audit' } }
    const offered = async () => {
      const page = await opened(KeepRun, { props: { run } })
      const has = page.has('Keep no longer')
      page.view.unmount()
      return has
    }
    signedIn('author')
    expect(await offered()).toBe(false)
    signedIn('author', { name: 'runa' })
    expect(await offered()).toBe(true)
    signedIn('administrator')
    expect(await offered()).toBe(true)
  })
})

describe('the audit trail', () => {
  const entry: Part<'AuditEntry'> = { id: 1, at: '2026-11-28T10:00:00Z', user: null, words: 'signed in', outcome: 'refused', subject: 'ada', detail: null, address: '127.0.0.1' }
  const shown = (at = '/audit') => {
    signedIn()
    answering({ 'GET /audit': { items: [entry], total: 1, page: 1, size: 50 } })
    return opened(Audit, { at })
  }

  it('exports what its filter shows', async () => {
    const page = await shown('/audit?user=ada&from=2026-11-01')
    const list = new URLSearchParams(asked('GET /audit')[0]!.address.split('?')[1])
    const csv = new URLSearchParams(page.view.find('a[download]').attributes('href')!.split('?')[1])
    for (const [key, value] of csv) expect(list.get(key)).toBe(value)
    expect(csv.get('user')).toBe('ada')
  })

  it('says so where nobody was signed in, and how it ended', async () => {
    const page = await shown()
    expect(page.has('nobody signed in')).toBe(true)
    expect(page.has(', refused')).toBe(true)
  })

  it('names the entries that are not what was kept', async () => {
    const page = await shown()
    answering({ 'GET /audit/proof': { intact: false, entries: 9, broken: [3, 7], head: 'abc' } })
    await page.press('Verify')
    expect(page.has('one missing before them: 3, 7.')).toBe(true)
    answering({ 'GET /audit/proof': { intact: true, entries: 9, broken: [], head: 'abc' } })
    await page.press('Verify')
    await settled()
    expect(page.has('The 9 entries are what was kept.')).toBe(true)
  })
})
