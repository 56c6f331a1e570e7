import { onScopeDispose, ref, shallowRef } from 'vue'

import { ask, client, type Schemas } from '../api/client'

export type LogLine = Schemas['LogLine']

/** The maximum number of lines in the page; older ones are loaded again. */
const kept = 2000
/** The interval of updates, in ms: line by line, a busy log would fill a core. */
const beat = 500

/** The lines of a function's log, as they arrive, and older ones during scrolling. */
export function useLog(of: () => { service: string; stage: string; target: string; function?: string }) {
  const lines = shallowRef<LogLine[]>([])
  const state = ref('connecting')
  /** Whether older lines can exist. */
  const older = ref(true)
  let arrived: LogLine[] = []
  let stream: EventSource | null = null
  let reading = false

  function show(): void {
    if (arrived.length === 0) return
    const last = lines.value.at(-1)?.id ?? -1
    const next = lines.value.concat(arrived.filter((l) => l.id > last)) // a resumed stream can repeat lines
    arrived = []
    if (next.length > kept) older.value = true
    lines.value = next.length > kept ? next.slice(-kept) : next
  }
  const timer = setInterval(show, beat)

  function follow(): void {
    stream?.close()
    lines.value = []
    arrived = [] // a list of its own: lines.value is shown
    older.value = true
    const { service, stage, target, function: name } = of()
    const query = new URLSearchParams({ target })
    if (name) query.set('function', name)
    stream = new EventSource(`/api/services/${service}/stages/${stage}/logs/stream?${query}`)
    stream.onopen = () => (state.value = 'following')
    stream.onerror = () => (state.value = 'connection lost, reconnecting')
    stream.addEventListener('lines', (e) => {
      state.value = 'following'
      arrived.push(...(JSON.parse((e as MessageEvent<string>).data) as LogLine[]))
    })
    stream.addEventListener('alive', () => (state.value = 'following'))
    stream.addEventListener('trouble', (e) => {
      state.value = (JSON.parse((e as MessageEvent<string>).data) as { detail: string }).detail
    })
  }

  /** Loads lines before the first one; returns their number. */
  async function back(): Promise<number> {
    const first = lines.value[0]
    if (reading || !older.value || !first) return 0
    reading = true
    try {
      const { service, stage, target, function: name } = of()
      const got = await ask(
        client.GET('/services/{service}/stages/{stage}/logs', {
          params: { path: { service, stage }, query: { target, function: name, before: first.id } },
        }),
      )
      if (got.length === 0) older.value = false
      lines.value = [...got, ...lines.value]
      return got.length
    } catch {
      return 0 // the state reports the error
    } finally {
      reading = false
    }
  }

  onScopeDispose(() => {
    clearInterval(timer)
    stream?.close()
  })
  return { lines, state, older, follow, back }
}
