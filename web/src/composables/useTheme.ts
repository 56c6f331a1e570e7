import { ref, watchEffect } from 'vue'

const theme = ref(localStorage.getItem('rudmar-theme') ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'))

watchEffect(() => {
  document.documentElement.dataset.bsTheme = theme.value
  localStorage.setItem('rudmar-theme', theme.value)
})

/** Light or dark; kept in the browser. */
export function useTheme() {
  return {
    theme,
    turn: () => (theme.value = theme.value === 'dark' ? 'light' : 'dark'),
  }
}
