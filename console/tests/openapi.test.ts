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
})
