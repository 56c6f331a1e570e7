<script setup lang="ts">
import { useRoute, useRouter } from 'vue-router'

import type { Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useTheme } from '../composables/useTheme'
import { pages } from '../router'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'

defineProps<{ services: Schemas['ServiceSummary'][]; line: Schemas['Line'] | null }>()
const emit = defineEmits<{ search: [] }>()
const session = useSession()
const live = useLive()
const route = useRoute()
const router = useRouter()
const { service, stage } = useFocus()
const { theme, turn } = useTheme()

async function leave(): Promise<void> {
  await session.signOut()
  live.close()
}
</script>

<template>
  <header class="bar">
    <RouterLink to="/" class="brand link-plain"><img src="/mark.svg" alt="" width="20" height="20" /> Rudmar</RouterLink>
    <select class="form-select picker" aria-label="Service" :value="service" @change="router.push({ name: 'board', params: { service: ($event.target as HTMLSelectElement).value } })">
      <option v-for="s in services" :key="s.name" :value="s.name">{{ s.name }}</option>
    </select>
    <nav class="pages" aria-label="Pages">
      <RouterLink v-for="(p, i) in pages" :key="p.name" :to="{ name: p.name, params: { service }, query: { stage: stage || undefined } }"
        :class="{ here: (route.meta.page ?? route.name) === p.name }" :title="`key ${i + 1}`">{{ p.label }}</RouterLink>
    </nav>
    <span class="spacer" />
    <RouterLink v-for="d in line?.running ?? []" :key="d.id" class="move" :to="{ name: 'deployment', params: { service: d.service, id: d.id } }">deploying {{ d.stage }}</RouterLink>
    <span v-if="!live.connected" class="bad" role="status">connection lost, trying again</span>
    <RouterLink v-if="line?.simulated" class="quiet note" :to="{ name: 'health', params: { service } }" title="The platform that ships with Rudmar: it really runs functions, on this machine.">local platform, simulated</RouterLink>
    <button type="button" class="btn btn-outline-secondary btn-sm" @click="emit('search')">Search <kbd>Ctrl K</kbd></button>
    <button type="button" class="btn btn-outline-secondary btn-sm" :aria-label="`Change to ${theme === 'dark' ? 'light' : 'dark'}`" @click="turn">{{ theme === 'dark' ? 'Light' : 'Dark' }}</button>
    <BDropdown v-if="session.person" size="sm" variant="outline-secondary" :text="session.person.handle" placement="bottom-end">
      <BDropdownText>{{ session.person.role }}<template v-if="session.person.groups.length"> · {{ session.person.groups.join(', ') }}</template></BDropdownText>
      <BDropdownDivider />
      <BDropdownItem :to="{ name: 'services' }">Services and repositories</BDropdownItem>
      <BDropdownItem :to="{ name: 'health', params: { service } }">How Rudmar does</BDropdownItem>
      <BDropdownItemButton @click="leave">Sign out</BDropdownItemButton>
    </BDropdown>
  </header>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 0.7rem;
  padding: 0.35rem 1.25rem;
  background: var(--surface);
  border-bottom: 1px solid var(--rule);
  white-space: nowrap;
}
.brand {
  font-weight: 600;
  display: inline-flex;
  gap: 0.4rem;
  align-items: center;
}
.picker {
  width: auto;
  max-width: 11rem;
}
.pages {
  display: flex;
  gap: 0.1rem;
}
.pages a {
  color: var(--quiet);
  text-decoration: none;
  padding: 0.2rem 0.5rem;
  border-bottom: 2px solid transparent;
}
.pages a:hover {
  color: var(--ink);
}
.pages a.here {
  color: var(--ink);
  border-color: var(--fjord);
}
.spacer {
  flex: 1;
}
.note {
  font-size: 0.8125rem;
  overflow: hidden;
  text-overflow: ellipsis;
}
kbd {
  background: none;
  color: var(--quiet);
  padding: 0;
  font-size: 0.75rem;
}
@media (max-width: 1180px) {
  .note {
    display: none;
  }
}
</style>
