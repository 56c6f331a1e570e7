<script setup lang="ts">
import { computed, nextTick, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useLoad } from '../composables/useLoad'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.name ?? 'manifest'))
const { data: list } = useLoad(() => ask(client.GET('/docs')))
const { data, problem, pending, reload } = useLoad(
  () => ask(client.GET('/docs/{name}', { params: { path: { name: name.value } } })),
  { watch: () => name.value },
)
const decisions = (n: string) => n.startsWith('decisions.')
const shown = computed(() => (list.value ?? []).filter((d) => !decisions(d.name)))

watch([data, () => route.hash], async () => {
  await nextTick()
  if (route.hash) document.getElementById(route.hash.slice(1))?.scrollIntoView()
})
/** Links between documents stay in the page. */
function follow(e: MouseEvent): void {
  const to = (e.target as HTMLElement).closest('a')?.getAttribute('href')
  if (!to?.startsWith('/') || e.ctrlKey || e.metaKey) return
  e.preventDefault()
  void router.push(to)
}
</script>

<template>
  <div class="page docs">
    <nav aria-label="Docs">
      <ul>
        <li v-for="d in shown" :key="d.name">
          <RouterLink
            :to="{ name: 'doc', params: { name: d.name } }"
            :aria-current="d.name === name ? 'page' : undefined"
            >{{ d.title }}</RouterLink
          >
        </li>
      </ul>
    </nav>
    <ProblemNote :problem="problem" :again="reload" />
    <PageWait v-if="pending" />
    <!-- The text is part of the program, as HTML from the server. -->
    <!-- eslint-disable-next-line vue/no-v-html -->
    <article v-if="data" class="text" @click="follow" v-html="data.html" />
  </div>
</template>

<style scoped>
.docs {
  display: grid;
  grid-template-columns: 13rem minmax(0, 50rem);
  gap: 2rem;
}
ul {
  list-style: none;
  padding: 0;
}
li {
  padding: 0.15rem 0;
}
a[aria-current] {
  color: var(--ink);
  font-weight: 600;
}
.text :deep(h2) {
  margin-top: 1.6rem;
  font-size: 1.05rem;
}
.text :deep(h3) {
  margin-top: 1.2rem;
  font-size: 0.95rem;
}
.text :deep(pre) {
  background: var(--wash);
  padding: 0.6rem 0.8rem;
  overflow-x: auto;
}
.text :deep(table) {
  display: block;
  overflow-x: auto;
  margin-bottom: 1rem;
  border-collapse: collapse;
}
.text :deep(td),
.text :deep(th) {
  padding: 0.25rem 0.8rem 0.25rem 0;
  border-bottom: 1px solid var(--rule);
  text-align: left;
  vertical-align: top;
}
@media (max-width: 900px) {
  .docs {
    grid-template-columns: minmax(0, 1fr);
    gap: 0.5rem;
  }
  ul {
    display: flex;
    flex-wrap: wrap;
    gap: 0 1rem;
  }
}
</style>
