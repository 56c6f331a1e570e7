import createClient, { type Middleware } from 'openapi-fetch'

import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** A problem reported by the server, or that it does not respond. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly diagnostics: Schemas['Diagnostic'][] = [],
    /** The address of its explanation. */
    readonly type = '',
  ) {
    super(message)
  }
}

/** Converts any error to a Problem. */
export function problemOf(e: unknown): Problem {
  return e instanceof Problem ? e : new Problem(0, String(e))
}

let csrf = ''
let signInAgain: (() => Promise<void>) | null = null

/** Stores the token of every changing request. */
export function setCsrf(token: string): void {
  csrf = token
}

/** Stores the function that asks to sign in again after a session has ended. */
export function onEndedSession(again: () => Promise<void>): void {
  signInAgain = again
}

const kept = new Map<string, Request>()

const carryToken: Middleware = {
  onRequest({ request, id }) {
    if (csrf) request.headers.set('X-CSRF-Token', csrf)
    kept.set(id, request.clone())
    return request
  },
  /** A request of an ended session is repeated in the next one. */
  async onResponse({ response, id, schemaPath }) {
    const again = kept.get(id)
    kept.delete(id)
    if (response.status !== 401 || schemaPath === '/session' || !again || !signInAgain) return undefined
    await signInAgain()
    again.headers.set('X-CSRF-Token', csrf)
    return fetch(again)
  },
  onError({ id }) {
    kept.delete(id)
  },
}

export const client = createClient<paths>({ baseUrl: '/api' })
client.use(carryToken)

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** Returns the response's data, or throws a Problem. */
export async function ask<T>(sent: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await sent
  } catch {
    throw new Problem(0, 'Rudmar is not responding. Check that it is running.')
  }
  if (answer.response.ok) return answer.data as T
  const p = answer.error as Partial<Schemas['Problem']> | undefined
  throw new Problem(answer.response.status, p?.detail ?? answer.response.statusText, p?.diagnostics, p?.type)
}
