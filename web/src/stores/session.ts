import { defineStore } from 'pinia'
import { ref } from 'vue'

import { ask, client, onEndedSession, Problem, type Schemas, setCsrf } from '../api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const person = ref<Schemas['Session'] | null>(null)
  const known = ref(false)
  /** The session ended while somebody was at work: they sign in again where they are. */
  const ended = ref(false)
  /** The newest event when somebody was let in, and when that was: what is loaded is not older. */
  let seen = { event: 0, at: 0 }
  let goOn: (() => void) | null = null
  let waiting: Promise<void> | null = null

  function take(session: Schemas['Session'] | null): void {
    person.value = session
    known.value = true
    seen = { event: session?.event ?? 0, at: Date.now() }
    setCsrf(session?.csrf ?? '')
  }

  async function load(): Promise<void> {
    try {
      take(await ask(client.GET('/session')))
    } catch (e) {
      if (!(e instanceof Problem) || e.status !== 401) throw e
      take(null)
    }
  }

  /** Looks whether the session still stands, and asks to sign in again where it does not. */
  async function check(): Promise<void> {
    try {
      await ask(client.GET('/session'))
    } catch (e) {
      if (e instanceof Problem && e.status === 401 && person.value) await again()
    }
  }

  function again(): Promise<void> {
    ended.value = true
    waiting ??= new Promise((resolve) => (goOn = resolve))
    return waiting
  }
  onEndedSession(again)

  async function signIn(handle: string, password: string): Promise<void> {
    const before = person.value?.username
    take(await ask(client.POST('/session', { body: { username: handle, password } })))
    // What is on the screen was shown to somebody else.
    if (before && before !== handle) location.assign('/')
    ended.value = false
    goOn?.()
    goOn = waiting = null
  }

  async function signOut(): Promise<void> {
    await ask(client.DELETE('/session'))
    take(null)
  }

  /** The event after which nothing was loaded yet; 0 where that is long ago. */
  function eventBefore(): number {
    return Date.now() - seen.at < 60_000 ? seen.event : 0
  }

  function may(ability: string): boolean {
    return person.value?.permissions.includes(ability) ?? false
  }

  return { person, known, ended, load, check, signIn, signOut, may, eventBefore }
})
