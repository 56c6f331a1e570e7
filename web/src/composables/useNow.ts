import { onScopeDispose, ref } from 'vue'

/** The time, brought up to date every so often. */
export function useNow(everyMs = 10_000) {
  const now = ref(Date.now())
  const timer = setInterval(() => (now.value = Date.now()), everyMs)
  onScopeDispose(() => clearInterval(timer))
  return now
}
