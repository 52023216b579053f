import { describe, expect, it } from 'vitest'

import { attemptOutcomeValues, deliveryStateValues, noticeKindValues, planStateValues, runStateValues, savedFromValues, stepStateValues } from '../src/api/schema'
import { away, instant, lineCounts, listOf, noticeWords, progress, rulesInWords, savedFrom, size, stateWords, took, typedValues, whoGets } from '../src/words'

describe('states', () => {
  it('have a mark and a word each, whatever the service answers', () => {
    for (const state of [...runStateValues, ...stepStateValues, ...deliveryStateValues, ...attemptOutcomeValues, ...planStateValues]) {
      const words = stateWords(state)
      expect(words.word, state).toMatch(/^[A-Z][a-z ]+$/)
      expect(words.mark, state).toHaveLength(1)
    }
  })

  it('can be told from one another by their words', () => {
    const words = runStateValues.map((state) => stateWords(state).word)
    expect(new Set(words).size).toBe(words.length)
  })

  it('that need somebody are not shown as if all were well', () => {
    for (const state of ['held', 'failed', 'partly-delivered', 'awaiting-approval'] as const) {
      expect(['warning', 'critical']).toContain(stateWords(state).tone)
    }
  })
})

describe('progress', () => {
  it('never goes back on the way of a run', () => {
    const way = ['due', 'collecting', 'rendering', 'delivering', 'delivered'] as const
    const percent = way.map((state) => progress(state, 5))
    expect(percent).toEqual([...percent].sort((one, other) => one - other))
  })

  it('stays below rendering however many queries a run has', () => {
    expect(progress('collecting', 1000)).toBeLessThan(progress('rendering', 0))
  })
})

describe('times', () => {
  it('are said in the zone asked for, on both sides of a change of the clock', () => {
    expect(instant('2026-10-25T00:30:00Z', 'Atlantic/Faroe')).toContain('01:30')
    expect(instant('2026-10-25T01:30:00Z', 'Atlantic/Faroe')).toContain('01:30')
    expect(instant(null)).toBe('–')
    expect(instant('2026-10-25T00:30:07Z', 'Atlantic/Faroe', true)).toContain('01:30:07')
  })

  it('are said from now in the largest fitting unit', () => {
    const now = Date.parse('2026-11-26T12:00:00Z')
    expect(away('2026-11-26T12:00:40Z', now)).toBe('in 40 seconds')
    expect(away('2026-11-26T11:10:00Z', now)).toBe('50 minutes ago')
    expect(away('2026-11-27T12:00:00Z', now)).toBe('in 24 hours')
    expect(away('2026-11-29T12:00:00Z', now)).toBe('in 3 days')
  })

  it('say how long something took', () => {
    expect(took('2026-11-26T12:00:00Z', '2026-11-26T12:00:01.5Z')).toBe('1500 ms')
    expect(took('2026-11-26T12:00:00Z', '2026-11-26T12:00:12.34Z')).toBe('12.3 s')
    expect(took('2026-11-26T12:00:00Z', null)).toBe('–')
  })
})

describe('sizes', () => {
  it('change their unit at powers of 1024', () => {
    expect([size(1023), size(1024), size(1048576)]).toEqual(['1023 B', '1.0 KiB', '1.0 MiB'])
  })
})

describe('typed values', () => {
  it('are numbers, lists or texts', () => {
    expect(typedValues('port=havnes; least=3.5\nhosts=a, b')).toEqual({ port: 'havnes', least: 3.5, hosts: ['a', 'b'] })
  })

  it('keep digits behind a leading zero and equal signs in a value', () => {
    expect(typedValues('code=007; where=a=b')).toEqual({ code: '007', where: 'a=b' })
  })

  it('pass over what is no pair', () => {
    expect(typedValues('port; ;x=')).toEqual({ x: '' })
  })
})

describe('the list of a kind', () => {
  it('is where a definition of it is found', () => {
    expect(listOf('message-template').name).toBe('delivery')
    expect(listOf('report').name).toBe('reports')
  })
})

describe('rules of time zones', () => {
  it('say their release, whose they are, and that they are old', () => {
    expect(rulesInWords({ version: '2026f', bundled: false, old: false })).toBe("Time zone rules 2026f, the system's")
    expect(rulesInWords({ version: '2025b', bundled: true, old: true })).toMatch(/^Time zone rules 2025b, the program's own; older than a year, update/)
  })
})

describe('notices', () => {
  it('say in a word what they tell, and whether somebody must do something', () => {
    expect(noticeKindValues.map((kind) => noticeWords(kind).word)).not.toContain(undefined)
    expect(noticeWords('recovered')).toEqual({ state: 'done', word: 'Well again' })
    expect(noticeWords('source-down').state).toBe('failed')
  })
})

describe('who gets a mail', () => {
  const audience = (name: string, recipients: string[], channels: string[] = []) => ({ name, recipients, channels })
  it('counts everybody once and names the audiences', () => {
    expect(whoGets({ audiences: [audience('Havnes', ['a', 'b']), audience('Skarvoy', ['b', 'c'], ['duty chat'])], audiences_from: [] })).toBe('3 recipients in 2 audiences (Havnes, Skarvoy) and to the channel duty chat')
    expect(whoGets({ audiences: [audience('Havnes', ['a'])], audiences_from: ['operations'] })).toBe('1 recipient in one audience (Havnes) and to everybody whom a query of operations names when it runs')
    expect(whoGets({ audiences: [], audiences_from: [] })).toContain('nobody')
  })
})

describe('the history of a definition', () => {
  it('says by what it was saved and what it came to', () => {
    expect(savedFromValues.map(savedFrom)).toEqual(['in the console', 'with the command line', 'through the API', 'before versions were kept'])
    expect(lineCounts('@@ -1,2 +1,2 @@\n same\n-old\n+new\n+more')).toBe('2 lines added, 1 removed')
    expect(lineCounts('+one')).toBe('1 line added')
    expect(lineCounts('-one\n-two')).toBe('2 lines removed')
    expect(lineCounts('')).toBe('no line changed')
  })
})
