import createClient, { type Middleware } from 'openapi-fetch'

import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** What went wrong, as the server says it, or that it does not answer. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly diagnostics: Schemas['Diagnostic'][] = [],
  ) {
    super(message)
  }
}

let csrf = ''

/** Keeps the token that every changing request has to carry. */
export function setCsrf(token: string): void {
  csrf = token
}

const carryToken: Middleware = {
  onRequest({ request }) {
    if (csrf) request.headers.set('X-CSRF-Token', csrf)
    return request
  },
}

export const client = createClient<paths>({ baseUrl: '/api' })
client.use(carryToken)

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** Gives the answer's data, or throws a Problem. */
export async function ask<T>(sent: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await sent
  } catch {
    throw new Problem(0, 'Rudmar does not answer. Is it still running?')
  }
  if (answer.response.ok) return answer.data as T
  const p = answer.error as Partial<Schemas['Problem']> | undefined
  throw new Problem(answer.response.status, p?.detail ?? answer.response.statusText, p?.diagnostics)
}
