<script setup lang="ts">
// What stands on every page of a service: the top bar and the stage line.
import { onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { pages } from '../router'
import { useLine } from '../stores/line'
import { useLive } from '../stores/live'

const live = useLive()
live.open()
const store = useLine()
const router = useRouter()
const { service, stage } = useFocus()
const searching = ref(false)

const { data: services } = useLoad(() => ask(client.GET('/services')), { topics: ['source'] })
const { data: line, problem } = useLoad(() => ask(client.GET('/services/{service}/line', { params: { path: { service: service.value } } })), {
  watch: () => service.value,
  topics: ['source', 'build', 'delivery', 'gates', 'deployment', 'look'],
})
watch(line, (l) => {
  if (l) store.line = l
})
watch([service, stage], () => (document.title = `${service.value} · Rudmar`), { immediate: true })

function onKey(e: KeyboardEvent): void {
  if ((e.ctrlKey || e.metaKey) && e.key === 'k') {
    e.preventDefault()
    searching.value = true
    return
  }
  const at = e.target as HTMLElement
  if (e.ctrlKey || e.metaKey || e.altKey || at.closest('input, textarea, select, [contenteditable], .modal')) return
  const page = pages[Number(e.key) - 1]
  if (page) void router.push({ name: page.name, params: { service: service.value }, query: { stage: stage.value || undefined } })
}
onMounted(() => document.addEventListener('keydown', onKey))
onUnmounted(() => document.removeEventListener('keydown', onKey))
</script>

<template>
  <div>
    <TopBar :services="services ?? []" :line="line" @search="searching = true" />
    <StageLine v-if="line" :line="line" />
    <div v-if="problem" class="page pb-0"><ProblemNote :problem="problem" /></div>
    <main v-if="line || problem" :key="service">
      <RouterView />
    </main>
    <CommandBox v-model="searching" />
  </div>
</template>
