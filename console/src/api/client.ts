// The public API, typed from its own description.
import createClient from 'openapi-fetch'

import { at } from './base'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type RunSummary = Schemas['RunSummary']
export type RunView = Schemas['RunView']
export type ReportView = Schemas['ReportView']

export const api = createClient<paths>({ baseUrl: at('/api/v1') })

/** What the service answered instead of what was asked for, in its own words. */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** Each thing wrong in the files of a definition. */
    readonly problems: Schemas['FileProblem'][] = [],
    /** Whether the same goes with a code of a second factor. */
    readonly needsCode = false,
  ) {
    super(message)
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** The data of an answer, or its problem as an exception. */
export async function take<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await asked
  } catch {
    throw new ApiProblem(0, 'The service cannot be reached. Check that it runs.')
  }
  if (!answer.response.ok) {
    const problem = answer.error as Schemas['ProblemDetails'] | undefined
    if (answer.response.status === 401) {
      window.dispatchEvent(new Event('signed-out'))
    }
    throw new ApiProblem(answer.response.status, problem?.detail ?? `The service answered ${answer.response.status}.`, problem?.problems, problem?.needs_code ?? false)
  }
  return answer.data as T
}

/** Follows a run until it is settled; answers with a function that stops following. */
export function follow(id: string, each: (run: RunView) => void): () => void {
  const events = new EventSource(at(`/api/v1/runs/${id}/events`))
  events.addEventListener('run', (event) => {
    const run = JSON.parse((event as MessageEvent<string>).data) as RunView
    each(run)
    if (run.settled) {
      events.close()
    }
  })
  return () => events.close()
}
