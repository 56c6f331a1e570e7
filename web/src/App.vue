<script setup lang="ts">
import { defineAsyncComponent, onMounted } from 'vue'

import { useAction } from './composables/useAction'
import { useArrival } from './composables/useArrival'
import SignInPage from './pages/SignInPage.vue'
import { useSession } from './stores/session'

// Dialogs load on demand, so the first page is small.
const SessionBox = defineAsyncComponent(() => import('./components/SessionBox.vue'))
const session = useSession()
const { problem, run } = useAction()
const { said } = useArrival()
const load = () => run(() => session.load())
onMounted(load)

function skip(): void {
  const main = document.querySelector<HTMLElement>('main')
  if (!main) return
  main.tabIndex = -1
  main.focus()
}
</script>

<template>
  <BApp>
    <a class="skip" href="#page" @click.prevent="skip">Skip to content</a>
    <main v-if="problem" class="page"><ProblemNote :problem="problem" :again="load" /></main>
    <SignInPage v-else-if="session.known && !session.person" />
    <RouterView v-else-if="session.known" />
    <SessionBox v-if="session.ended" />
    <div id="said" class="visually-hidden" role="status">{{ said }}</div>
  </BApp>
</template>

<style scoped>
.skip {
  position: absolute;
  left: 0.5rem;
  top: -4rem;
  z-index: 2000;
  padding: 0.4rem 0.8rem;
  background: var(--surface);
  border: 1px solid var(--rule);
}
.skip:focus {
  top: 0.5rem;
}
</style>
