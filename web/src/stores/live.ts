import { defineStore } from 'pinia'
import { ref } from 'vue'

import { useSession } from './session'

export interface Change {
  service: string
  topic: string
  body: Record<string, unknown>
}

/** The pause before the next attempt, in ms, growing. */
const waits = [1000, 2000, 4000, 8000, 15_000]

/** The event stream. Pages listen to it, so no reload is needed. */
export const useLive = defineStore('live', () => {
  const connected = ref(true)
  /** The number of failed attempts, and the time of the next one. */
  const tries = ref(0)
  const next = ref(0)
  const listeners = new Set<(change: Change | null) => void>()
  let stream: EventSource | null = null
  let timer: ReturnType<typeof setTimeout> | undefined
  let missed = false

  function open(): void {
    if (stream) return
    clearTimeout(timer)
    // Events between the first load and the start of the stream are sent as well. If the position
    // is unknown, everything reloads.
    const after = missed ? 0 : useSession().eventBefore()
    missed = !after
    const mine = (stream = new EventSource(after ? `/api/events?after=${after}` : '/api/events'))
    mine.addEventListener('hello', () => {
      connected.value = true
      tries.value = 0
      // A page that was disconnected reloads its data: missed events are not sent again.
      if (missed) for (const listen of listeners) listen(null)
      missed = false
    })
    mine.addEventListener('change', (e) => {
      const change = JSON.parse((e as MessageEvent<string>).data) as Change
      for (const listen of listeners) listen(change)
    })
    mine.onerror = () => {
      if (stream !== mine) return
      const refused = mine.readyState === EventSource.CLOSED
      close()
      missed = true
      // The server rejected the request: it is repeated after a sign-in.
      if (refused) void useSession().check().then(later)
      else later()
    }
  }

  function later(): void {
    if (tries.value > 0) connected.value = false
    const wait = waits[Math.min(tries.value++, waits.length - 1)] ?? 15_000
    next.value = Date.now() + wait
    timer = setTimeout(open, wait)
  }

  /** Reconnects at once. */
  function again(): void {
    close()
    open()
  }

  function close(): void {
    clearTimeout(timer)
    stream?.close()
    stream = null
  }

  function listen(listener: (change: Change | null) => void): () => void {
    listeners.add(listener)
    return () => listeners.delete(listener)
  }

  return { connected, tries, next, open, again, close, listen }
})
