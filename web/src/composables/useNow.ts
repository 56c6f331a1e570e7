import { onScopeDispose, ref } from 'vue'

/** The present time, updated at intervals. */
export function useNow(everyMs = 10_000) {
  const now = ref(Date.now())
  const timer = setInterval(() => (now.value = Date.now()), everyMs)
  onScopeDispose(() => clearInterval(timer))
  return now
}
