/** The steps of a deployment as people read them: by phase, and by function. */

import type { Schemas } from './api/client'

type Step = Schemas['DeploymentStep']

/** A stretch of time, in Unix milliseconds, of which everything on the page is a part. */
export interface Span {
  from: number
  length: number
}

export interface Phase {
  phase: number
  steps: number
  done: number
  failed: number
  /** Kinds of resources and how many of each, the most frequent first. */
  kinds: [kind: string, count: number][]
  state: string
  /** When its first step began and its last one ended; 0 where that is not so yet. */
  from: number
  to: number
}

export interface FunctionSteps {
  name: string
  state: string
  done: number
  steps: Step[]
}

/** The function that an address is of: "route/warn/ask" is of warn. */
function functionOf(address: string): string {
  return address.split('/')[1] ?? address
}

/** What many steps come to: the state that somebody has to know of first. */
function stateOf(steps: Step[]): string {
  for (const state of ['failed', 'running', 'waiting', 'skipped'])
    if (steps.some((s) => s.state === state)) return state === 'waiting' && steps.some(isDone) ? 'running' : state
  return 'succeeded'
}

const isDone = (s: Step): boolean => s.state === 'succeeded'

export function phasesOf(steps: Step[]): Phase[] {
  return [...Map.groupBy(steps, (s) => s.phase)]
    .sort(([a], [b]) => a - b)
    .map(([phase, own]) => {
      const kinds = Map.groupBy(own, (s) => s.address.split('/')[0] ?? '')
      return {
        phase,
        steps: own.length,
        done: own.filter(isDone).length,
        failed: own.filter((s) => s.state === 'failed').length,
        kinds: [...kinds].map(([kind, of]): [string, number] => [kind, of.length]).sort((a, b) => b[1] - a[1]),
        state: stateOf(own),
        ...timesOf(own),
      }
    })
}

/** When the first of some steps began and the last one ended; 0 where that is not so yet. */
export function timesOf(steps: Step[]): { from: number; to: number } {
  let from = 0
  let to = 0
  for (const s of steps) {
    if (s.startedAt && (!from || s.startedAt < from)) from = s.startedAt
    to = Math.max(to, s.endedAt)
  }
  return { from, to: steps.some((s) => s.startedAt && !s.endedAt) ? 0 : to }
}

const rank: Record<string, number> = { failed: 0, running: 1 }

/** By function: those that failed first, then what runs, then the rest by name. */
export function byFunction(steps: Step[]): FunctionSteps[] {
  return [...Map.groupBy(steps, (s) => functionOf(s.address))]
    .map(([name, own]) => ({
      name,
      state: stateOf(own),
      done: own.filter(isDone).length,
      steps: [...own].sort((a, b) => a.phase - b.phase || a.index - b.index),
    }))
    .sort((a, b) => (rank[a.state] ?? 2) - (rank[b.state] ?? 2) || (a.name < b.name ? -1 : 1))
}

/** Where a stretch stands in a span, as CSS has it; what has not begun is not drawn. */
export function barOf(from: number, to: number, span: Span): Record<string, string> {
  if (!from) return { display: 'none' }
  return {
    left: `${Math.max(0, Math.min(99, (100 * (from - span.from)) / span.length))}%`,
    width: `${Math.max(0.6, Math.min(100, (100 * (to - from)) / span.length))}%`,
  }
}
