// Pictures of blocks, a few at a time, so that one slow source keeps no other block waiting.
import { api, ApiProblem, type Schemas } from '../api/client'

const MOST_AT_A_TIME = 4
let running = 0
const waiting: (() => void)[] = []

async function turn<T>(work: () => Promise<T>, signal: AbortSignal): Promise<T> {
  while (running >= MOST_AT_A_TIME) {
    await new Promise<void>((resolve) => waiting.push(resolve))
  }
  running += 1
  try {
    signal.throwIfAborted()
    return await work()
  } finally {
    running -= 1
    waiting.shift()?.()
  }
}

/** A block as a page of its own. */
export function picture(order: Schemas['PreviewOrder'], signal: AbortSignal): Promise<string> {
  return turn(async () => {
    const answer = await api.POST('/preview', { body: order, parseAs: 'text', signal })
    if (!answer.response.ok) {
      const problem = answer.error as Schemas['ProblemDetails'] | undefined
      throw new ApiProblem(answer.response.status, problem?.detail ?? `The service answered ${answer.response.status}.`, problem?.problems)
    }
    return answer.data as unknown as string
  }, signal)
}
