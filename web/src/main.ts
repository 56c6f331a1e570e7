import '@fontsource/ibm-plex-sans/latin-400.css'
import '@fontsource/ibm-plex-sans/latin-600.css'
import '@fontsource/ibm-plex-mono/latin-400.css'
import 'bootstrap/dist/css/bootstrap.min.css'
import 'bootstrap-vue-next/dist/bootstrap-vue-next.css'
import './styles/theme.css'
import './styles/parts.css'
import './styles/narrow.css'
import './styles/print.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'

/**
 * A part of the page that is gone belongs to an older Rudmar: the page loads anew,
 * once, and goes on to where it was going. Edits are kept in the browser and come
 * back. It gives false where it loaded anew for this already.
 */
function replaced(to: string): boolean {
  const here = document.querySelector<HTMLScriptElement>('script[type=module]')?.src ?? ''
  if (sessionStorage.getItem('rudmar-replaced') === here) return false
  sessionStorage.setItem('rudmar-replaced', here)
  location.assign(to)
  return true
}
/** The target of a navigation in progress. */
let going = ''
router.beforeEach((to) => void (going = to.fullPath))
router.afterEach(() => void (going = ''))
/**
 * When the page last began to go elsewhere: what it was still loading is given up then, and
 * nothing is to keep it from getting there.
 */
let left = -Infinity
addEventListener('beforeunload', () => void (left = performance.now()))
/** The time limit of that, in milliseconds; afterwards the page can reload again. */
const leaving = 10_000
addEventListener('vite:preloadError', (e) => {
  if (performance.now() - left < leaving) return
  if (replaced(going || location.href)) e.preventDefault()
})

createApp(App).use(createPinia()).use(router).mount('#app')
