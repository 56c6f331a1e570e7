import { nextTick, onScopeDispose, ref, watch } from 'vue'
import { type RouteLocationNormalizedLoaded, useRoute, useRouter } from 'vue-router'

import { useFocus } from './useFocus'

/** The title of a page: in the window, and for screen readers. */
export function titleOf(route: RouteLocationNormalizedLoaded, stage: string): string {
  const p = route.params
  switch (route.name) {
    case 'board':
      return 'Board'
    case 'source':
      return typeof route.query.file === 'string' ? `${route.query.file} · Source` : 'Source'
    case 'versions':
      return 'Versions'
    case 'version':
      return `Version ${p.version}`
    case 'compare':
      return `Versions ${p.version} and ${p.other}`
    case 'plan':
      return route.query.version ? `Plan of version ${route.query.version} for ${stage}` : `Plan for ${stage}`
    case 'saved-plan':
      return `Plan ${p.id}`
    case 'deployment':
      return `Deployment ${p.id}`
    case 'deliveries':
      return 'Deliveries'
    case 'delivery':
      return `Version ${p.version} in ${p.stage}`
    case 'functions':
      return `Functions in ${stage}`
    case 'function':
      return `${p.function} in ${stage}${p.tab ? ` · ${p.tab}` : ''}`
    case 'journal':
      return 'Journal'
    case 'health':
      return 'Health'
    case 'services':
      return 'Services and repositories'
    case 'docs':
    case 'doc':
      return 'Docs'
    case 'account':
      return 'Account'
    case 'notifications':
      return 'Notifications'
    case 'api':
      return 'API'
    case 'not-found':
      return 'Page not found'
  }
  return ''
}

/**
 * Names the page in the window's title, and after a change of page puts the
 * focus on its heading and says its name, as a new document would.
 */
export function useArrival() {
  const route = useRoute()
  const { service, stage } = useFocus()
  const said = ref('')
  let looking: MutationObserver | undefined
  let started = false
  void useRouter()
    .isReady()
    .then(() => nextTick())
    .then(() => (started = true))

  watch(
    [() => route.fullPath, stage],
    () => {
      document.title = [titleOf(route, stage.value), service.value, 'Rudmar'].filter(Boolean).join(' · ')
    },
    { immediate: true },
  )

  function arrive(): boolean {
    const heading = document.querySelector<HTMLElement>('main h1')
    if (!heading) return false
    heading.tabIndex = -1
    heading.focus({ preventScroll: true })
    return true
  }
  watch(
    () => route.path,
    async () => {
      if (!started) return // the browser itself announces the first page
      await nextTick()
      said.value = document.title
      looking?.disconnect()
      if (arrive()) return
      looking = new MutationObserver(() => {
        // A focus that the user has moved meanwhile is kept.
        if (document.activeElement !== document.body || arrive()) looking?.disconnect()
      })
      looking.observe(document.body, { childList: true, subtree: true })
    },
  )
  onScopeDispose(() => looking?.disconnect())
  return { said }
}
