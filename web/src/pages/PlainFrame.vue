<script setup lang="ts">
// Pages without a service: a bar with a back link.
import mark from '../assets/mark.svg?inline'
</script>

<template>
  <div>
    <header class="bar">
      <RouterLink to="/" class="brand link-plain"><img :src="mark" alt="" width="20" height="20" /> Rudmar</RouterLink>
      <nav aria-label="Pages">
        <RouterLink :to="{ name: 'services' }">Services and repositories</RouterLink>
        <RouterLink :to="{ name: 'notifications' }">Notifications</RouterLink>
        <RouterLink :to="{ name: 'account' }">Account</RouterLink>
        <RouterLink :to="{ name: 'docs' }">Docs</RouterLink>
        <RouterLink :to="{ name: 'api' }">API</RouterLink>
      </nav>
    </header>
    <main id="page"><RouterView /></main>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0.35rem 1.2rem;
  padding: 0.55rem 1.25rem;
  background: var(--surface);
  border-bottom: 1px solid var(--rule);
}
.brand {
  font-weight: 600;
  display: inline-flex;
  gap: 0.4rem;
  align-items: center;
}
nav {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
}
</style>
