import { computed, ref, watchEffect } from 'vue'

const key = 'rudmar-theme'
const dark = matchMedia('(prefers-color-scheme: dark)')
const system = ref(dark.matches ? 'dark' : 'light')
dark.addEventListener('change', (e) => (system.value = e.matches ? 'dark' : 'light'))
const chosen = ref(localStorage.getItem(key) ?? '')
const theme = computed(() => chosen.value || system.value)

watchEffect(() => {
  document.documentElement.dataset.bsTheme = theme.value
})

/** Light or dark: the system's theme, until the user chooses; the choice is stored in the browser. */
export function useTheme() {
  function turn(): void {
    const now = theme.value === 'dark' ? 'light' : 'dark'
    chosen.value = now === system.value ? '' : now // the system's theme is no choice
    if (chosen.value) localStorage.setItem(key, chosen.value)
    else localStorage.removeItem(key)
  }
  return { theme, turn }
}
