import { describe, expect, it } from 'vitest'

import { measuresOf } from '../src/dashboards/picks'
import { begin } from '../src/forms/sources'
import { FORMS } from '../src/forms/fields'
import { channelKind } from '../src/forms/channels'
import { DATABASES, isDatabase, sourceKind } from '../src/forms/sources'

const entry = { name: 'loads', kind: 'table', unit: '', description: '', items: [{ name: 'at', kind: 'datetime', description: '', values: [] }, { name: 'cpu', kind: 'double', description: '', values: [] }] }

describe('databases', () => {
  it.each(DATABASES)('of kind %s are asked first for a measure over time', (kind) => {
    expect(begin(kind, entry)).toEqual({ pick: { table: 'loads', measure: [{ column: 'cpu', with: 'mean', name: 'cpu' }], time: 'at', 'over-time': true } })
    expect(isDatabase(kind) && sourceKind(kind)).not.toBe(kind)
  })

  it('have percentiles where their SQL has them', () => {
    const words = (kind: string) => measuresOf(kind).map((one) => one.value)
    expect(words('postgresql')).toEqual(['mean', 'sum', 'min', 'max', 'count', 'median', 'p95', 'p99'])
    expect(words('sqlite')).toEqual(['mean', 'sum', 'min', 'max', 'count'])
  })

  it('on a server have an address, and one in a file has its file', () => {
    const asked = (kind: string) => FORMS.source!.filter((field) => !field.when || field.when({ 'source.kind': kind })).map((field) => field.key)
    expect(asked('mysql')).toContain('source.address')
    expect(asked('mysql')).not.toContain('source.file')
    expect(asked('sqlite')).toContain('source.file')
    expect(asked('sqlite')).not.toContain('source.address')
  })

  it('hand their documents to a program by its name', () => {
    const asked = FORMS.channel!.filter((field) => !field.when || field.when({ 'channel.kind': 'program' })).map((field) => field.key)
    expect(asked).toContain('channel.program')
    expect(asked).not.toContain('channel.host')
    expect([channelKind('program'), channelKind('another')]).toEqual(['Program of this machine', 'another'])
  })
})
