<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import type { Schemas } from '../api/client'
import mark from '../assets/mark.svg?inline'
import { useFocus } from '../composables/useFocus'
import { useNow } from '../composables/useNow'
import { useTheme } from '../composables/useTheme'
import { pages } from '../router'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'

defineProps<{ services: Schemas['ServiceSummary'][]; line: Schemas['StageLine'] | null }>()
const emit = defineEmits<{ search: []; keys: [] }>()
const session = useSession()
const live = useLive()
const route = useRoute()
const router = useRouter()
const { service, stage } = useFocus()
const { theme, turn } = useTheme()
/** The component gives these buttons the role of a menu, which requires menu items. */
const item = { role: 'menuitem' }
const now = useNow(1000)
const wait = computed(() => Math.max(0, Math.ceil((live.next - now.value) / 1000)))

async function leave(): Promise<void> {
  // An uncommitted edit is confirmed first.
  const failed = await router.push({ name: 'start' })
  if (failed) return
  live.close()
  await session.signOut()
}
</script>

<template>
  <header class="bar">
    <RouterLink to="/" class="brand link-plain" aria-label="Rudmar"
      ><img :src="mark" alt="" width="20" height="20" /> <span>Rudmar</span></RouterLink
    >
    <select
      class="form-select picker"
      aria-label="Service"
      :value="service"
      @change="router.push({ name: 'board', params: { service: ($event.target as HTMLSelectElement).value } })"
    >
      <option v-for="s in services" :key="s.name" :value="s.name">{{ s.name }}</option>
    </select>
    <nav class="pages" aria-label="Pages">
      <RouterLink
        v-for="(p, i) in pages"
        :key="p.name"
        :to="{ name: p.name, params: { service }, query: { stage: stage || undefined } }"
        :class="{ here: (route.meta.page ?? route.name) === p.name }"
        :aria-current="(route.meta.page ?? route.name) === p.name ? 'page' : undefined"
        :title="`key ${i + 1}`"
        >{{ p.label }}</RouterLink
      >
    </nav>
    <span class="spacer" />
    <RouterLink
      v-for="d in line?.running ?? []"
      :key="d.id"
      class="move"
      :to="{ name: 'deployment', params: { service: d.service, id: d.id } }"
      >deploying {{ d.stage }}</RouterLink
    >
    <span v-if="!live.connected" class="bad" role="status"
      >Connection lost, attempt {{ live.tries + 1 }} <template v-if="wait">in {{ wait }} s</template
      ><template v-else>now</template>
      <button type="button" class="btn btn-link p-0 align-baseline" @click="live.again()">Retry</button></span
    >
    <RouterLink
      v-if="line?.simulated"
      class="quiet note"
      :to="{ name: 'health', params: { service } }"
      title="The platform that ships with Rudmar. It runs functions on this machine."
      >local platform, simulated</RouterLink
    >
    <button type="button" class="btn btn-outline-secondary btn-sm" @click="emit('search')">
      Search <kbd>Ctrl K</kbd>
    </button>
    <BDropdown
      v-if="session.person"
      size="sm"
      variant="outline-secondary"
      :text="session.person.username"
      placement="bottom-end"
    >
      <BDropdownText
        >{{ session.person.role
        }}<template v-if="session.person.groups.length">
          · {{ session.person.groups.join(', ') }}</template
        ></BDropdownText
      >
      <BDropdownDivider />
      <BDropdownItem :to="{ name: 'account' }">Account and tokens</BDropdownItem>
      <BDropdownItem :to="{ name: 'notifications' }">Notifications</BDropdownItem>
      <BDropdownItem :to="{ name: 'services' }">Services and repositories</BDropdownItem>
      <BDropdownItem :to="{ name: 'health', params: { service } }">Health</BDropdownItem>
      <BDropdownItem :to="{ name: 'docs' }">Docs</BDropdownItem>
      <BDropdownItem :to="{ name: 'api' }">API</BDropdownItem>
      <BDropdownItemButton v-bind="item" @click="emit('keys')">Keyboard shortcuts</BDropdownItemButton>
      <BDropdownItemButton v-bind="item" @click="turn">{{
        theme === 'dark' ? 'Light theme' : 'Dark theme'
      }}</BDropdownItemButton>
      <BDropdownDivider />
      <BDropdownItemButton v-bind="item" @click="leave">Sign out</BDropdownItemButton>
    </BDropdown>
  </header>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 0.35rem 0.7rem;
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
/* Narrow: the pages are on a scrolling row of their own. */
@media (max-width: 900px) {
  .bar {
    flex-wrap: wrap;
    padding-inline: 0.75rem;
  }
  .brand span,
  kbd {
    display: none;
  }
  .pages {
    order: 1;
    flex: 1 0 100%;
    overflow-x: auto;
  }
  .pages a {
    padding: 0.45rem 0.6rem;
  }
  .picker {
    max-width: 8rem;
  }
}
</style>
