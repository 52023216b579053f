import { Validator } from '@seriousme/openapi-schema-validator'
import { describe, expect, it } from 'vitest'

import text from '../../docs/openapi.json?raw'

type Operation = { operationId: string; security?: object[]; responses: Record<string, { description: string; content?: Record<string, object> }> }
const operations = Object.values(JSON.parse(text).paths as Record<string, Record<string, Operation>>).flatMap((methods) => Object.values(methods).filter((one) => one.operationId))

describe('the description of the API', () => {
  it('is valid OpenAPI', async () => {
    const checked = await new Validator().validate(JSON.parse(text))
    expect(checked.errors ?? []).toEqual([])
    expect(checked.valid).toBe(true)
  })

  it('says what each answer means, and that errors are problem details', () => {
    expect(operations.length).toBeGreaterThan(50)
    for (const { operationId, responses, security } of operations) {
      expect(security, operationId).toBeDefined()
      expect(Object.keys(responses), operationId).toContain('default')
      for (const [status, response] of Object.entries(responses)) {
        expect(response.description.length, `${operationId} ${status}`).toBeGreaterThan(5)
        if (!status.startsWith('2')) expect(Object.keys(response.content ?? {}), `${operationId} ${status}`).toEqual(['application/problem+json'])
      }
    }
  })

  it('answers with 201 and the new object wherever something is made', () => {
    // What is asked for and made later is 202; sending, testing and looking make nothing of one's own.
    const makes = /^(make|add|copy|issue|invite|renew|publish|subscribe|use)_/
    const made = operations.filter((one) => makes.test(one.operationId))
    expect(made.length).toBeGreaterThan(8)
    for (const { operationId, responses } of made) {
      const good = Object.entries(responses).filter(([status]) => status.startsWith('2'))
      expect(good.map(([status]) => status), operationId).toEqual(['201'])
      expect(Object.keys(good[0]![1].content ?? {}), operationId).toEqual(['application/json'])
    }
  })
})
