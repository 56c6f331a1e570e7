import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** A choice that stands in the address, so that it can be sent to somebody and comes back after a reload. */
export function useAddress<T extends string = string>(name: string, usual: T): WritableComputedRef<T> {
  const route = useRoute()
  const router = useRouter()
  return computed({
    get: () => (typeof route.query[name] === 'string' ? route.query[name] : usual) as T,
    set: (value) =>
      void router.replace({ query: { ...route.query, [name]: value === usual ? undefined : value }, hash: route.hash }),
  })
}
