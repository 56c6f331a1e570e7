<script setup lang="ts">
// The common parts of a service's pages: the top bar and the stage line.
import { defineAsyncComponent, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { useShortcuts } from '../composables/useShortcuts'
import { pages } from '../router'
import { useLine } from '../stores/line'
import { useLive } from '../stores/live'

const ShortcutBox = defineAsyncComponent(() => import('../components/ShortcutBox.vue'))
const live = useLive()
live.open()
const store = useLine()
const router = useRouter()
const { service, stage, move } = useFocus()
const searching = ref(false)
const keys = ref(false)

const { data: services } = useLoad(() => ask(client.GET('/services')), { topics: ['source'] })
const {
  data: line,
  problem,
  reload,
} = useLoad(() => ask(client.GET('/services/{service}/stage-line', { params: { path: { service: service.value } } })), {
  watch: () => service.value,
  topics: ['source', 'build', 'delivery', 'gates', 'deployment', 'observation', 'shift'],
})
watch(line, (l) => {
  if (l) store.line = l
})

useShortcuts((key) => {
  const page = pages[Number(key) - 1]
  if (page)
    void router.push({
      name: page.name,
      params: { service: service.value },
      query: { stage: stage.value || undefined },
    })
  if (key === '[') move(-1)
  if (key === ']') move(1)
  if (key === '?') keys.value = true
})
function onFind(e: KeyboardEvent): void {
  if (!(e.ctrlKey || e.metaKey) || e.key !== 'k') return
  e.preventDefault()
  searching.value = true
}
onMounted(() => document.addEventListener('keydown', onFind))
onUnmounted(() => document.removeEventListener('keydown', onFind))
</script>

<template>
  <div>
    <TopBar :services="services ?? []" :line="line" @search="searching = true" @keys="keys = true" />
    <StageLine v-if="line" :line="line" />
    <div v-else-if="!problem" class="line-wait" aria-hidden="true" />
    <main v-if="problem?.status === 404" class="page">
      <h1>Service {{ service }} not found</h1>
      <p>
        It does not exist, was renamed, or was deleted.
        <RouterLink :to="{ name: 'services' }">Show all services</RouterLink>
      </p>
    </main>
    <template v-else>
      <div v-if="problem" class="page pb-0"><ProblemNote :problem="problem" :again="reload" /></div>
      <main v-if="line || problem" id="page" :key="service">
        <RouterView />
      </main>
      <main v-else class="page"><PageWait /></main>
    </template>
    <CommandBox v-model="searching" @keys="keys = true" />
    <ShortcutBox v-if="keys" v-model="keys" />
  </div>
</template>

<style scoped>
.line-wait {
  height: 7.2rem;
  background: var(--wash);
  border-bottom: 1px solid var(--rule);
}
</style>
