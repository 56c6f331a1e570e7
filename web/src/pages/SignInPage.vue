<script setup lang="ts">
import { ref } from 'vue'

import { useAction } from '../composables/useAction'
import { useSession } from '../stores/session'

const session = useSession()
const handle = ref('')
const password = ref('')
const { busy, problem, run } = useAction()
</script>

<template>
  <main class="door">
    <form class="sheet" @submit.prevent="run(() => session.signIn(handle, password))">
      <h1><img src="/mark.svg" alt="" width="26" height="26" /> Rudmar</h1>
      <p class="quiet">Declare functions, see what a version would change, deliver it through stages.</p>
      <ProblemNote :problem="problem" />
      <label for="handle">Handle</label>
      <input id="handle" v-model="handle" class="form-control" autocomplete="username" autofocus required />
      <label for="password">Password</label>
      <input id="password" v-model="password" class="form-control" type="password" autocomplete="current-password" required />
      <button class="btn btn-primary" :disabled="busy">Sign in</button>
      <p class="quiet small mb-0">The demo prints its handles and their password in the terminal where it was started.</p>
    </form>
  </main>
</template>

<style scoped>
.door {
  display: grid;
  place-items: center;
  min-height: 90vh;
}
form {
  width: 22rem;
  padding: 1.5rem;
  display: flex;
  flex-direction: column;
  gap: 0.4rem;
}
h1 {
  display: flex;
  gap: 0.5rem;
  align-items: center;
}
.btn {
  margin: 0.5rem 0;
}
</style>
