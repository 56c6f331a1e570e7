<script setup lang="ts">
import { ref } from 'vue'

import { ask, client } from '../api/client'
import mark from '../assets/mark.svg?inline'

/** The demo identifies itself, and its passwords are used nowhere else. */
const demo = ref(false)
ask(client.GET('/welcome')).then(
  (w) => (demo.value = w.demo),
  () => undefined,
)
document.title = 'Sign in · Rudmar'
</script>

<template>
  <main class="door">
    <div class="sheet">
      <h1><img :src="mark" alt="" width="26" height="26" /> Rudmar</h1>
      <p class="quiet">Declare functions, plan changes and deliver versions through stages.</p>
      <SignInForm />
      <p v-if="demo" class="quiet small mb-0">The demo prints its usernames and their password in its terminal.</p>
    </div>
  </main>
</template>

<style scoped>
.door {
  display: grid;
  place-items: center;
  min-height: 90vh;
  padding: 1rem;
}
.sheet {
  width: min(22rem, 100%);
  padding: 1.5rem;
}
h1 {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 0.4rem;
}
</style>
