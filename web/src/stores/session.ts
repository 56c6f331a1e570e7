import { defineStore } from 'pinia'
import { ref } from 'vue'

import { ask, client, onEndedSession, Problem, type Schemas, setCsrf } from '../api/client'

/** The signed-in user. */
export const useSession = defineStore('session', () => {
  const person = ref<Schemas['Session'] | null>(null)
  const known = ref(false)
  /** The session ended during work: the user signs in again on the same page. */
  const ended = ref(false)
  /** The newest event at sign-in, and the time: later loads are not older. */
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

  /** Checks whether the session is still valid, and asks to sign in again if it is not. */
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

  async function signIn(username: string, password: string): Promise<void> {
    const before = person.value?.username
    take(await ask(client.POST('/session', { body: { username, password } })))
    // The content on the screen belongs to another user.
    if (before && before !== username) location.assign('/')
    ended.value = false
    goOn?.()
    goOn = waiting = null
  }

  async function signOut(): Promise<void> {
    await ask(client.DELETE('/session'))
    take(null)
  }

  /** The event after which nothing was loaded yet; 0 if that is long ago. */
  function eventBefore(): number {
    return Date.now() - seen.at < 60_000 ? seen.event : 0
  }

  function may(ability: string): boolean {
    return person.value?.permissions.includes(ability) ?? false
  }

  return { person, known, ended, load, check, signIn, signOut, may, eventBefore }
})
