import { mount } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent } from 'vue'

import { ApiProblem, take } from '../src/api/client'
import { useLoaded, type Loaded } from '../src/parts/load'

function loading<T>(ask: () => Promise<T>, every?: number) {
  let loaded!: Loaded<T>
  const page = mount(
    defineComponent({
      setup() {
        loaded = useLoaded(ask, every)
        return () => null
      },
    }),
  )
  return { loaded, page }
}
const settled = () => new Promise((done) => setTimeout(done, 0))

describe('what a page loads', () => {
  it('is there as soon as it has come, and an error before it is gone', async () => {
    let answers = [Promise.reject(new Error('not yet')), Promise.resolve(1)]
    const { loaded } = loading(() => answers.shift()!)
    await settled()
    expect(loaded.error.value).toBe('not yet')
    await loaded.load()
    expect([loaded.data.value, loaded.error.value]).toEqual([1, null])
  })

  it('is never an older answer that comes late', async () => {
    const waiting: ((value: string) => void)[] = []
    const { loaded } = loading(() => new Promise<string>((answer) => waiting.push(answer)))
    void loaded.load()
    waiting[1]!('newer')
    await settled()
    waiting[0]!('older')
    await settled()
    expect(loaded.data.value).toBe('newer')
  })

  describe('again and again', () => {
    beforeEach(() => void vi.useFakeTimers())
    afterEach(() => void vi.useRealTimers())

    it('stops when the page is left', async () => {
      const ask = vi.fn(() => Promise.resolve(1))
      const { page } = loading(ask, 1000)
      await vi.advanceTimersByTimeAsync(2500)
      expect(ask).toHaveBeenCalledTimes(3)
      page.unmount()
      await vi.advanceTimersByTimeAsync(5000)
      expect(ask).toHaveBeenCalledTimes(3)
    })
  })
})

describe('an answer of the service', () => {
  const answer = (status: number, error?: unknown) => Promise.resolve({ error, response: new Response(null, { status }) })

  it('that is a problem is thrown with its words and the places in files', async () => {
    const problems = [{ file: 'a.toml', line: 3, column: 1, key: 'report.name', message: 'no name' }]
    const thrown = await take(answer(422, { detail: 'no name', problems })).catch((problem: unknown) => problem)
    expect(thrown).toBeInstanceOf(ApiProblem)
    expect(thrown).toMatchObject({ status: 422, message: 'no name', problems })
  })

  it('says when the service cannot be reached', async () => {
    await expect(take(Promise.reject(new TypeError('fetch failed')))).rejects.toThrow('The service cannot be reached')
  })

  it('that nobody is signed in is told to the whole page', async () => {
    const told = vi.fn()
    window.addEventListener('signed-out', told)
    await take(answer(401, { detail: 'sign in first' })).catch(() => null)
    expect(told).toHaveBeenCalledOnce()
    window.removeEventListener('signed-out', told)
  })
})
