import { describe, expect, it } from 'vitest'

import { hasWindow, isLook, keep, pieceAt, setIn, splitAddress, togglePart, withWindow, type Piece } from '../src/dashboards/page'

const piece = (selector: string, x: number, y: number, width: number, height: number): Piece => ({ selector, title: selector, is_table: false, x, y, width, height })

describe('a live page', () => {
  it('keeps parts that are pressed and lets them go', () => {
    const query = { name: 'board', page: '/' } as { name: string; page: string; part?: unknown }
    togglePart(query, { selector: '#queue', title: 'Lorries' })
    togglePart(query, { selector: '#x > div', title: 'div' })
    expect(query.part).toEqual([{ selector: '#queue', title: 'Lorries' }, { selector: '#x > div' }])
    togglePart(query, { selector: '#queue', title: 'Lorries' })
    togglePart(query, { selector: '#x > div', title: 'div' })
    expect(query).toEqual({ name: 'board', page: '/' })
  })

  it('is pressed where its smallest part is', () => {
    const pieces = [piece('main', 0, 0, 1000, 1000), piece('#queue', 100, 100, 300, 200), piece('#queue canvas', 110, 140, 280, 150)]
    expect(pieceAt(pieces, 120, 110)?.selector).toBe('#queue')
    expect(pieceAt(pieces, 120, 150)?.selector).toBe('#queue canvas')
    expect(pieceAt(pieces, 900, 900)?.selector).toBe('main')
    expect(pieceAt(pieces, 2000, 10)).toBeNull()
  })

  it('is kept as it looks, or as rows, and never as both', () => {
    const query = { name: 'board', page: '/', part: [{ selector: '#a' }], printed: true }
    keep(query, 'table', '#berths')
    expect(query).toEqual({ name: 'board', page: '/', table: '#berths' })
    expect(isLook(query)).toBe(false)
    keep(query, 'download')
    expect(query).toEqual({ name: 'board', page: '/', download: true })
    keep(query, 'look')
    expect(query).toEqual({ name: 'board', page: '/' })
    expect(isLook(query)).toBe(true)
  })

  it('has tables of settings that go when they are empty', () => {
    const query = { name: 'board', page: '/' } as { name: string; page: string; view?: unknown }
    setIn(query, 'view', 'colours', 'dark')
    expect(query.view).toEqual({ colours: 'dark' })
    setIn(query, 'view', 'colours', '')
    expect(query).toEqual({ name: 'board', page: '/' })
  })

  it('takes an address apart and puts the window into it', () => {
    expect(splitAddress('https://board.example.org/day?from=1')).toEqual({ url: 'https://board.example.org', page: '/day?from=1' })
    expect(splitAddress('https://board.example.org')).toEqual({ url: 'https://board.example.org', page: '/' })
    expect(splitAddress('https://board.example.org?x=1')).toEqual({ url: 'https://board.example.org', page: '/?x=1' })
    expect(splitAddress('board.example.org')).toBeNull()
    expect(withWindow('/day?from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z&port=x')).toBe('/day?from={{ from }}&to={{ to }}&port=x')
    expect(withWindow('/day?port=x')).toBe('/day?port=x')
    expect(hasWindow('/day?from={{ from_unix }}')).toBe(true)
    expect(hasWindow('/day')).toBe(false)
  })
})
