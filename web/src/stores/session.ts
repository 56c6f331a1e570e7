import { defineStore } from 'pinia'
import { ref } from 'vue'

import { ask, client, Problem, type Schemas, setCsrf } from '../api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const person = ref<Schemas['Session'] | null>(null)
  const known = ref(false)

  function take(session: Schemas['Session'] | null): void {
    person.value = session
    known.value = true
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

  async function signIn(handle: string, password: string): Promise<void> {
    take(await ask(client.POST('/session', { body: { handle, password } })))
  }

  async function signOut(): Promise<void> {
    await ask(client.DELETE('/session'))
    take(null)
  }

  function may(ability: string): boolean {
    return person.value?.abilities.includes(ability) ?? false
  }

  return { person, known, load, signIn, signOut, may }
})
