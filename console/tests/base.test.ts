import { afterEach, describe, expect, it, vi } from 'vitest'

const based = async (content?: string) => {
  vi.resetModules()
  document.head.innerHTML = content === undefined ? '' : `<meta name="base" content="${content}">`
  return import('../src/api/base')
}

describe('where the service is', () => {
  afterEach(() => (document.head.innerHTML = ''))

  it('is at the root unless the page says otherwise', async () => {
    for (const nothing of [undefined, '']) {
      const { BASE, at } = await based(nothing)
      expect(BASE).toBe('')
      expect(at('/api/v1/runs')).toBe('/api/v1/runs')
    }
  })

  it('is below what the page says', async () => {
    const { at } = await based('/ops/reports')
    expect(at('/api/v1/runs')).toBe('/ops/reports/api/v1/runs')
  })
})
