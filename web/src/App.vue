<script setup lang="ts">
import { onMounted } from 'vue'

import { Problem } from './api/client'
import { useAction } from './composables/useAction'
import SignInPage from './pages/SignInPage.vue'
import { useSession } from './stores/session'

const session = useSession()
const { problem, run } = useAction()
onMounted(() => run(() => session.load()))

function isProblem(p: unknown): p is Problem {
  return p instanceof Problem
}
</script>

<template>
  <BApp>
    <div v-if="isProblem(problem)" class="page"><ProblemNote :problem="problem" /></div>
    <SignInPage v-else-if="session.known && !session.person" />
    <RouterView v-else-if="session.known" />
  </BApp>
</template>
