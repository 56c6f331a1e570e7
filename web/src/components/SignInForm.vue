<script setup lang="ts">
import { ref } from 'vue'

import { useAction } from '../composables/useAction'
import { useSession } from '../stores/session'

const props = defineProps<{ username?: string }>()
const session = useSession()
const username = ref(props.username ?? '')
const password = ref('')
const { busy, problem, run } = useAction()
</script>

<template>
  <form @submit.prevent="run(() => session.signIn(username, password))">
    <ProblemNote :problem="problem" />
    <label for="username">Username</label>
    <input
      id="username"
      v-model="username"
      class="form-control"
      autocomplete="username"
      :autofocus="!props.username"
      required
    />
    <label for="password">Password</label>
    <input
      id="password"
      v-model="password"
      class="form-control"
      type="password"
      autocomplete="current-password"
      :autofocus="!!props.username"
      required
    />
    <button class="btn btn-primary" :disabled="busy">Sign in</button>
  </form>
</template>

<style scoped>
form {
  display: flex;
  flex-direction: column;
  gap: 0.4rem;
}
.btn {
  margin: 0.5rem 0;
}
</style>
