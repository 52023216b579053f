import { describe, expect, it } from 'vitest'

import { asked, countWords, fronts, grouped, kept, NOTHING, statusMark, wantedOf, type Entry } from '../src/archive/words'

describe('what is looked for in the archive', () => {
  it('is what the address of the page says, and nothing else', () => {
    expect(wantedOf({})).toEqual(NOTHING)
    const found = wantedOf({ words: 'db-2', report: ['a', 'b'], view: 'fronts' })
    expect(found).toEqual({ ...NOTHING, words: 'db-2' })
    expect(kept(found)).toEqual({ words: 'db-2' })
    // Element Plus gives null for a day that is cleared.
    expect(kept({ ...found, from: null as never })).toEqual({ words: 'db-2' })
  })

  it('takes whole days, the last one with it', () => {
    expect(asked({ ...NOTHING, from: '2026-03-01', to: '2026-03-31', status: 'critical' })).toEqual({
      status: 'critical',
      from: new Date(2026, 2, 1).toISOString(),
      to: new Date(2026, 3, 1).toISOString(),
    })
  })

  it('is counted in words', () => {
    expect([countWords(0, false), countWords(1, false), countWords(10_000, true)]).toEqual(['0 documents', '1 document', 'more than 10,000 documents'])
  })

  it('has one front page for each view of a run', () => {
    const entry = (id: string, snapshot_id: string, variant = '') => ({ document: { id, snapshot_id, variant } }) as Entry
    expect(grouped([entry('1', 'a'), entry('3', 'b'), entry('2', 'a')]).map((files) => files.map((one) => one.document.id))).toEqual([['1', '2'], ['3']])
    const read = [entry('1', 'a', '1.234,5'), entry('2', 'a', '1.234,5'), entry('3', 'a'), entry('4', 'a')]
    expect(grouped(read)[0]!.map((one) => one.document.id)).toEqual(['3', '4', '1', '2'])
    expect(fronts([entry('1', 'a'), entry('2', 'a'), entry('3', 'b')]).map((one) => one.document.id)).toEqual(['1', '3'])
  })

  it('says how a document was judged', () => {
    expect(['ok', 'warning', 'critical'].map((status) => statusMark(status).mark)).toEqual(['●', '▲', '◆'])
  })
})
