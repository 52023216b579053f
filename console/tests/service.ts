// A stand-in for the service: each test says what it answers, and reads what it was asked.
// It is there before the client is made, which keeps the `fetch` that it finds.
import { afterEach, beforeEach } from 'vitest'

import type { Schemas } from '../src/api/client'
import type { paths } from '../src/api/schema'

type Method = 'get' | 'post' | 'put' | 'patch' | 'delete'
/** An operation of the API: what is not described cannot be answered. */
export type Operation = { [P in keyof paths & string]: { [M in Method]: paths[P] extends { [K in M]: { responses: unknown } } ? `${Uppercase<M>} ${P}` : never }[Method] }[keyof paths & string]
/** As much of what the API describes as a test needs. */
export type Some<T> = T extends (infer One)[] ? Some<One>[] : T extends object ? { [K in keyof T]?: Some<T[K]> } : T
type Good<R> = R extends { 200: infer Answer } | { 201: infer Answer } | { 202: infer Answer } ? (Answer extends { content: { 'application/json': infer Data } } ? Some<Data> : undefined) : undefined
type Data<O> = O extends `${infer M} ${infer P}` ? (P extends keyof paths ? (Lowercase<M> extends keyof paths[P] ? (paths[P][Lowercase<M>] extends { responses: infer R } ? Good<R> : never) : never) : never) : never

/** What the service was asked: the operation, its address with the query, and the body. */
export interface Asked {
  operation: string
  address: string
  body: unknown
  /** The version that a change is based on. */
  match: string | null
}
/** The same of one that the API has a name for. */
export type Part<Name extends keyof Schemas> = Some<Schemas[Name]>
/** What is answered: data, a problem, or what is made of the question. */
type Answers = { [O in Operation]?: Data<O> | Refusal | ((asked: Asked) => Data<O> | Refusal) }

/** An answer that is a problem, as the service words it. */
export class Refusal {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly more: Record<string, unknown> = {},
  ) {}
}

let answers: [Operation, unknown][] = []
let all: Asked[] = []

/** What is answered from now on; the latest word on an operation counts. */
export function answering(more: Answers): void {
  answers.unshift(...(Object.entries(more) as [Operation, unknown][]))
}
/** What was asked so far of an operation, or of any that is no mere look. */
export const asked = (operation?: Operation): Asked[] => all.filter((one) => (operation ? one.operation === operation : !one.operation.startsWith('GET ')))
export const bodies = (operation: Operation): unknown[] => asked(operation).map((one) => one.body)

const fits = (operation: string, method: string, path: string) => {
  const [of, pattern] = operation.split(' ') as [string, string]
  return of === method && new RegExp(`^/api/v1${pattern.replace(/\{[^}]+\}/g, '[^/]+')}$`).test(path)
}
globalThis.fetch = async (input, init) => {
  const request = new Request(input as Request, init)
  const { pathname, search } = new URL(request.url)
  const found = answers.find(([operation]) => fits(operation, request.method, pathname))
  const text = await request.text()
  const one = { operation: found?.[0] ?? `${request.method} ${pathname}`, address: pathname.slice('/api/v1'.length) + decodeURIComponent(search), body: text ? (JSON.parse(text) as unknown) : undefined, match: request.headers.get('If-Match') }
  all.push(one)
  const answer = await (typeof found?.[1] === 'function' ? (found[1] as (asked: Asked) => unknown)(one) : found ? found[1] : new Refusal(404, `no test answers ${one.operation}`))
  if (answer instanceof Refusal) return Response.json({ detail: answer.detail, ...answer.more }, { status: answer.status })
  return answer === undefined ? new Response(null, { status: 204 }) : Response.json(answer, { headers: { ETag: '"1"' } })
}

// Hundreds of zones to choose from take long to draw without a browser.
Intl.supportedValuesOf = () => ['Atlantic/Faroe', 'Europe/Oslo']

/** Events of the service, which a test sends by hand. */
export class Events extends EventTarget {
  static all: Events[] = []
  closed = false
  constructor(readonly address: string) {
    super()
    Events.all.push(this)
  }
  close() {
    this.closed = true
  }
  say(kind: string, data: unknown) {
    this.dispatchEvent(new MessageEvent(kind, { data: JSON.stringify(data) }))
  }
}
globalThis.EventSource = Events as unknown as typeof EventSource

beforeEach(() => {
  // As index.html has it.
  document.body.innerHTML = '<section id="dialogs"></section>'
  answers = []
  all = []
  Events.all = []
})
afterEach(() => {
  document.body.innerHTML = ''
  sessionStorage.clear()
  localStorage.clear()
})
