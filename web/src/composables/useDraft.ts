import { onMounted, onUnmounted, type Ref, ref, watch } from 'vue'
import { onBeforeRouteLeave, onBeforeRouteUpdate } from 'vue-router'

/** An uncommitted edit in the browser's storage. */
export interface Draft {
  at: number
  /** The commit on which it is based. */
  base: string
  files: [string, string | null][]
  message: string
}

/** The user's decision about an uncommitted edit. */
export type Leaving = 'stay' | 'keep' | 'drop'

function key(service: string, branch: string, person: string): string {
  return `rudmar-draft ${person} ${service} ${branch}`
}

/** Reads the draft of a branch; null if there is none. */
export function readDraft(service: string, branch: string, person: string): Draft | null {
  try {
    const draft = JSON.parse(localStorage.getItem(key(service, branch, person)) ?? 'null') as Draft | null
    return draft && draft.files.length > 0 ? draft : null
  } catch {
    return null
  }
}

/** Stores an edit for the editor; false if there is one already, which is kept. */
export function putDraft(service: string, branch: string, person: string, draft: Draft): boolean {
  if (readDraft(service, branch, person)) return false
  localStorage.setItem(key(service, branch, person), JSON.stringify(draft))
  return true
}

/**
 * Keeps an edit in the browser while it is made, and asks before it is left: by a
 * link, a key, a reload, or signing out. What is left without an answer, by a crash
 * or a closed window, is offered again.
 */
export function useDraft(
  edits: Ref<Map<string, string | null>>,
  of: () => { service: string; branch: string; person: string; base: string; message: string },
) {
  /** The user is about to leave; the decision continues the navigation. */
  const leaving = ref<((answer: Leaving) => void) | null>(null)
  const full = ref(false)

  function keep(): void {
    const { service, branch, person, base, message } = of()
    if (!branch) return
    if (edits.value.size === 0) {
      localStorage.removeItem(key(service, branch, person))
      return
    }
    const draft: Draft = { at: Date.now(), base, files: [...edits.value], message }
    try {
      localStorage.setItem(key(service, branch, person), JSON.stringify(draft))
      full.value = false
    } catch {
      full.value = true // the browser's storage is full
    }
  }
  watch([edits, () => of().message], keep)

  function drop(): void {
    const { service, branch, person } = of()
    localStorage.removeItem(key(service, branch, person))
  }

  async function mayLeave(): Promise<boolean> {
    if (edits.value.size === 0) return true
    const answer = await new Promise<Leaving>((resolve) => (leaving.value = resolve))
    leaving.value = null
    if (answer === 'drop') {
      edits.value = new Map()
      drop()
    }
    return answer !== 'stay'
  }
  onBeforeRouteLeave(mayLeave)
  onBeforeRouteUpdate((to, from) => (to.params.service === from.params.service ? true : mayLeave()))

  function onUnload(e: BeforeUnloadEvent): void {
    if (edits.value.size > 0) e.preventDefault()
  }
  onMounted(() => addEventListener('beforeunload', onUnload))
  onUnmounted(() => removeEventListener('beforeunload', onUnload))

  return { leaving, full, drop }
}
