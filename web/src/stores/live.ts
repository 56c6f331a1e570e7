import { defineStore } from 'pinia'
import { ref } from 'vue'

export interface Change {
  service: string
  topic: string
  body: Record<string, unknown>
}

/** The stream of what happens. Pages listen to it, so that none needs a reload. */
export const useLive = defineStore('live', () => {
  const connected = ref(true)
  const listeners = new Set<(change: Change | null) => void>()
  let stream: EventSource | null = null
  let missed = false

  function open(): void {
    if (stream) return
    stream = new EventSource('/api/events')
    stream.addEventListener('hello', () => {
      connected.value = true
      // What was missed is told again by the server; a page that was away for
      // longer than it keeps events loads anew.
      if (missed) for (const listen of listeners) listen(null)
      missed = false
    })
    stream.addEventListener('change', (e) => {
      const change = JSON.parse((e as MessageEvent<string>).data) as Change
      for (const listen of listeners) listen(change)
    })
    stream.onerror = () => {
      connected.value = false
      missed = true
      if (stream?.readyState === EventSource.CLOSED) {
        stream = null
        setTimeout(open, 2000)
      }
    }
  }

  function close(): void {
    stream?.close()
    stream = null
  }

  function listen(listener: (change: Change | null) => void): () => void {
    listeners.add(listener)
    return () => listeners.delete(listener)
  }

  return { connected, open, close, listen }
})
