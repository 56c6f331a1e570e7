<script setup lang="ts">
// The remote of a mirror, its state, and the form to change it.
import { ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'

const props = defineProps<{ repository: Schemas['Repository'] }>()
const emit = defineEmits<{ changed: [] }>()
const open = ref(false)
const url = ref('')
const user = ref('')
const password = ref('')
const minutes = ref(5)
/** The signing key of push notifications, shown once. */
const key = ref('')
const { busy, problem, run } = useAction()
const path = () => ({ params: { path: { repository: props.repository.name } } })

function begin(): void {
  url.value = props.repository.mirror?.url ?? ''
  user.value = props.repository.mirror?.username ?? ''
  minutes.value = (props.repository.mirror?.everyMs ?? 300_000) / 60_000
  password.value = key.value = ''
  problem.value = null
  open.value = true
}

function follow(): Promise<boolean> {
  return run(async () => {
    const body = { url: url.value, username: user.value, password: password.value, everyMs: minutes.value * 60_000 }
    key.value = (await ask(client.PUT('/repositories/{repository}/mirror', { ...path(), body }))).key
    password.value = ''
    emit('changed')
  })
}
const now = () =>
  run(async () => {
    await ask(client.POST('/repositories/{repository}/mirror', path()))
    emit('changed')
  })
const end = () =>
  run(async () => {
    await ask(client.DELETE('/repositories/{repository}/mirror', path()))
    emit('changed')
  })
</script>

<template>
  <p v-if="repository.mirror" class="mb-1 wrap-anywhere">
    follows <code>{{ repository.mirror.url }}</code>
    <span v-if="repository.mirror.error" class="bad d-block">{{ repository.mirror.error }}</span>
    <span v-else-if="repository.mirror.readAt" class="quiet d-block"
      >fetched <TimeAgo :at="repository.mirror.readAt" />, every {{ repository.mirror.everyMs / 60_000 }} min, set up by
      {{ repository.mirror.person
      }}<template v-if="!repository.mirror.folders.includes('.')"
        >, in {{ repository.mirror.folders.join(', ') }}</template
      ></span
    >
    <span v-else class="wait d-block">fetching now</span>
  </p>
  <ProblemNote v-if="!open" :problem="problem" />
  <button
    type="button"
    class="btn btn-sm btn-outline-secondary me-2"
    :aria-label="`Mirror of ${repository.name}`"
    @click="begin"
  >
    {{ repository.mirror ? 'Change mirror…' : 'Set up mirror…' }}
  </button>
  <template v-if="repository.mirror">
    <button type="button" class="btn btn-sm btn-outline-secondary me-2" :disabled="busy" @click="now">Fetch now</button>
    <EndButton :what="`mirror ${repository.name}`" :busy="busy" @end="end" />
  </template>
  <BModal v-model="open" title-tag="h2" :title="`Mirror for ${repository.name}`" focus="input" no-footer no-animation>
    <form v-if="!key" @submit.prevent="follow">
      <ProblemNote :problem="problem" />
      <p class="quiet">
        Its branches are checked like pushes, and mirrored commits count as pushed by the mirror. Direct pushes are
        refused while the mirror is active.
      </p>
      <label class="d-block mb-2"
        >Address
        <input v-model="url" class="form-control" type="url" required placeholder="https://" autocomplete="off" />
      </label>
      <label class="d-block mb-2"
        >Username (if required)
        <input v-model="user" class="form-control" maxlength="200" autocomplete="off" />
      </label>
      <label class="d-block mb-2"
        >Password or token
        <input v-model="password" class="form-control" type="password" autocomplete="new-password" />
      </label>
      <label class="d-block mb-3"
        >Fetch interval (minutes)
        <input v-model.number="minutes" class="form-control" type="number" min="1" max="1440" required />
      </label>
      <button class="btn btn-primary me-2" :disabled="busy">Set up mirror</button>
      <button type="button" class="btn btn-outline-secondary" @click="open = false">Cancel</button>
    </form>
    <template v-else>
      <p>Fetching now. The other host can announce pushes at once with a POST to</p>
      <CopyText :text="`/pushed/${repository.name}`" />
      <p class="mt-2">signed (X-Hub-Signature-256) with this key, which cannot be shown again:</p>
      <CopyText :text="key" />
    </template>
  </BModal>
</template>
