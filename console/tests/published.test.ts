import { describe, expect, it } from 'vitest'

import { byFormat, isGood, orderOf, pathOf, untilWords, whomWords, type Fields } from '../src/published/words'

const nothing: Fields = { title: '', signedIn: false, days: undefined, password: '', choices: {} }

describe('what is published', () => {
  it('lists documents by their format, those alone of their kind first', () => {
    const of = (format: string, id: string, removed_at?: string) => ({ document: { format, id, removed_at } }) as never
    const files = [of('csv', 'a'), of('pdf', 'b'), of('csv', 'c'), of('html', 'd'), of('txt', 'e', '2026-11-01T00:00:00Z')]
    expect(byFormat(files)).toEqual([
      { format: 'pdf', id: 'b', count: 1 },
      { format: 'html', id: 'd', count: 1 },
      { format: 'csv', id: 'a', count: 2 },
    ])
    expect(byFormat([])).toEqual([])
  })

  it('is what was filled in, and no value is both fixed and to be chosen', () => {
    expect(orderOf({ snapshot: 'a' }, nothing)).toEqual({ snapshot: 'a', signed_in: false })
    const subject = { dashboard: 'board', values: { port: 'havnes', year: 2026 } }
    const fields = { ...nothing, title: ' The board ', days: 90, password: 'gull rope harbour', choices: { port: ['skarvoy', ' havnes', 'skarvoy'], year: [] } }
    expect(orderOf(subject, fields)).toEqual({ dashboard: 'board', values: { year: 2026 }, choices: { port: ['skarvoy', 'havnes'] }, signed_in: false, title: 'The board', days: 90, password: 'gull rope harbour' })
  })

  it('says who opens it and until when', () => {
    expect(whomWords({ signed_in: true, has_password: false })).toContain('signs in')
    expect(whomWords({ signed_in: false, has_password: true })).toContain('password')
    const now = Date.parse('2026-11-28T00:00:00Z')
    const views = [{ expires_at: null, revoked_at: null }, { expires_at: '2026-12-01T00:00:00Z', revoked_at: null }, { expires_at: '2026-11-01T00:00:00Z', revoked_at: null }, { expires_at: null, revoked_at: '2026-11-02T00:00:00Z' }]
    expect(views.map((view) => untilWords(view, now).split(' ')[0])).toEqual(['until', 'until', 'over', 'ended'])
    expect(views.map((view) => isGood(view, now))).toEqual([true, true, false, false])
    expect(pathOf('https://lark.host.example/view/abc.def')).toBe('/view/abc.def')
  })
})
