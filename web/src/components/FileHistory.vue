<script setup lang="ts">
// The commits that changed a file, and what each of them changed in it.
import { defineAsyncComponent, ref, watch } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useLoad } from '../composables/useLoad'

const DiffView = defineAsyncComponent(() => import('./DiffView.vue'))
const props = defineProps<{ service: string; branch: string; file: string }>()

const {
  data: commits,
  problem,
  reload,
} = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/source/history', {
        params: { path: { service: props.service }, query: { path: props.file, branch: props.branch } },
      }),
    ),
  {
    watch: () => [props.service, props.branch, props.file].join(' '),
    topics: ['source'],
  },
)
const picked = ref('')
const sides = ref<{ before: string; after: string } | null>(null)
watch(
  () => props.file,
  () => {
    picked.value = ''
    sides.value = null
  },
)

/** The file at a commit; empty if it does not exist there. */
async function textAt(commit: string): Promise<string> {
  if (!commit) return ''
  try {
    const got = await ask(
      client.GET('/services/{service}/source/file', {
        params: { path: { service: props.service }, query: { path: props.file, branch: props.branch, commit } },
      }),
    )
    return got.text
  } catch {
    return '' // this commit created or deleted it
  }
}
async function pick(c: Schemas['FileCommit']): Promise<void> {
  picked.value = picked.value === c.hash ? '' : c.hash
  if (!picked.value) {
    sides.value = null
    return
  }
  const [before, after] = await Promise.all([textAt(c.parent), textAt(c.hash)])
  if (picked.value === c.hash) sides.value = { before, after }
}
</script>

<template>
  <section class="history" aria-label="File history">
    <ProblemNote :problem="problem" :again="reload" />
    <ul v-if="commits?.length">
      <li v-for="c in commits" :key="c.hash">
        <button type="button" class="btn btn-link p-0" :aria-expanded="picked === c.hash" @click="pick(c)">
          {{ c.message }}
        </button>
        <span class="quiet ms-2"
          >{{ c.author }}, <TimeAgo :at="c.at" />, <code>{{ c.hash.slice(0, 8) }}</code></span
        >
        <DiffView
          v-if="picked === c.hash && sides"
          :title="file"
          :sides="`left: before ${c.hash.slice(0, 8)}; right: after`"
          :before="sides.before"
          :after="sides.after"
        />
      </li>
    </ul>
    <p v-else-if="commits" class="quiet mb-0">Not committed yet.</p>
  </section>
</template>

<style scoped>
.history {
  overflow: auto;
  max-height: 45%;
  margin-top: 0.4rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
</style>
