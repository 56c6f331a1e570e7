import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useLine } from '../stores/line'

/** The service in view and the focused stage, from the address. */
export function useFocus() {
  const route = useRoute()
  const router = useRouter()
  const line = useLine()

  const service = computed(() => String(route.params.service ?? ''))
  const stage = computed(() => {
    const named = route.params.stage ?? route.query.stage
    return typeof named === 'string' && named ? named : (line.stages[0] ?? '')
  })

  function focus(name: string): void {
    if (route.params.stage !== undefined) void router.push({ params: { ...route.params, stage: name } })
    else if (route.name === 'saved-plan' || route.name === 'deployment')
      void router.push({ name: 'plan', params: { service: service.value }, query: { stage: name } })
    else void router.push({ query: { ...route.query, stage: name, target: undefined, version: undefined } })
  }

  function move(by: number): void {
    const at = line.stages.indexOf(stage.value)
    const next = line.stages[Math.min(Math.max(at + by, 0), line.stages.length - 1)]
    if (next && next !== stage.value) focus(next)
  }

  return { service, stage, focus, move }
}
