/** The steps of a deployment, by phase and by function. */

import type { Schemas } from './api/client'

type Step = Schemas['DeploymentStep']

/** The period of the whole page, in Unix milliseconds. */
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
  /** The start of its first step and the end of its last one; 0 if not yet. */
  from: number
  to: number
}

export interface FunctionSteps {
  name: string
  state: string
  done: number
  steps: Step[]
}

/** The function of an address: "route/warn/ask" belongs to warn. */
function functionOf(address: string): string {
  return address.split('/')[1] ?? address
}

/** The combined state of several steps: the most important one. */
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

/** The start of the first of some steps and the end of the last one; 0 if not yet. */
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

/** By function: failed ones first, then running ones, then the rest by name. */
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

/** The CSS position of a period in the span; a step that has not started is not drawn. */
export function barOf(from: number, to: number, span: Span): Record<string, string> {
  if (!from) return { display: 'none' }
  return {
    left: `${Math.max(0, Math.min(99, (100 * (from - span.from)) / span.length))}%`,
    width: `${Math.max(0.6, Math.min(100, (100 * (to - from)) / span.length))}%`,
  }
}
