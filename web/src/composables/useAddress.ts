import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** A setting in the address, which can be shared and survives a reload. */
export function useAddress<T extends string = string>(name: string, usual: T): WritableComputedRef<T> {
  const route = useRoute()
  const router = useRouter()
  return computed({
    get: () => (typeof route.query[name] === 'string' ? route.query[name] : usual) as T,
    set: (value) =>
      void router.replace({ query: { ...route.query, [name]: value === usual ? undefined : value }, hash: route.hash }),
  })
}
