<script setup lang="ts">
// Notification targets, sent notifications, and responses.
import { computed, ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'

useLive().open()
const session = useSession()
const { data, problem, reload } = useLoad(() => ask(client.GET('/notification-targets')))
const { data: services } = useLoad(() => ask(client.GET('/services')))
const chosen = ref<number | null>(null)
const {
  data: sent,
  problem: sentProblem,
  reload: reloadSent,
} = useLoad(
  async () =>
    chosen.value
      ? ask(client.GET('/notification-targets/{id}/notifications', { params: { path: { id: chosen.value } } }))
      : null,
  { watch: () => chosen.value, topics: ['notification'] },
)
const { busy, problem: actProblem, run } = useAction()
const hooks = computed(() => data.value?.targets ?? [])
const looksAfter = computed(() => session.may('administer'))

const name = ref('')
const url = ref('')
const service = ref('')
const kinds = ref<string[]>([])
const made = ref<Schemas['CreatedNotificationTarget'] | null>(null)

function add(): Promise<boolean> {
  return run(async () => {
    made.value = await ask(
      client.POST('/notification-targets', {
        body: { name: name.value, url: url.value, types: kinds.value, service: service.value || undefined },
      }),
    )
    name.value = url.value = ''
    await reload()
  })
}

function end(id: number): Promise<boolean> {
  return run(async () => {
    await ask(client.DELETE('/notification-targets/{id}', { params: { path: { id } } }))
    if (chosen.value === id) chosen.value = null
    await reload()
  })
}

function again(id: number): Promise<boolean> {
  return run(async () => {
    await ask(client.POST('/notifications/{id}/resend', { params: { path: { id } } }))
    await reloadSent()
  })
}

const of = (h: Schemas['NotificationTarget']): string =>
  h.service ? [h.service, h.stage].filter(Boolean).join('/') : 'All services'
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Notifications</h1>
    <p class="quiet">
      Rudmar sends events as CloudEvents, signed with a key for each target. Administrators create targets.
    </p>
    <ProblemNote :problem="problem ?? sentProblem ?? actProblem" />
    <section v-if="made" class="sheet sheet-pad mb-3" aria-label="New signing key">
      <p class="mb-1">
        Sending notifications to <strong>{{ made.target.name }}</strong>. Copy the signing key now: it cannot be shown
        again.
      </p>
      <CopyText :text="made.key" />
    </section>
    <div class="sheet mb-3 overflow-auto">
      <RowTable caption="Notification targets">
        <thead>
          <tr>
            <th scope="col">Target</th>
            <th scope="col">Address</th>
            <th scope="col">Types</th>
            <th scope="col">Scope</th>
            <th scope="col">Actions</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="h in hooks" :key="h.id">
            <td>{{ h.name }}</td>
            <td class="wrap-anywhere">{{ h.url }}</td>
            <td>{{ h.types.join(', ') || 'all' }}</td>
            <td>{{ of(h) }}</td>
            <td>
              <button
                type="button"
                class="btn btn-sm btn-outline-secondary me-2"
                :aria-label="`Notifications to ${h.name}`"
                @click="chosen = chosen === h.id ? null : h.id"
              >
                {{ chosen === h.id ? 'Hide notifications' : 'Show notifications' }}
              </button>
              <EndButton :what="`target ${h.name}`" :busy="busy" @end="end(h.id)" />
            </td>
          </tr>
          <tr v-if="hooks.length === 0">
            <td colspan="5" class="quiet">
              {{ looksAfter ? 'No targets. Create one below.' : 'No targets.' }}
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <div v-if="chosen && sent" class="sheet mb-3 overflow-auto">
      <RowTable caption="Notifications, newest first">
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th scope="col">Type</th>
            <th scope="col">State</th>
            <th scope="col">Response</th>
            <th scope="col">Actions</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="n in sent" :key="n.id">
            <td class="text-nowrap"><TimeAgo :at="n.createdAt" /></td>
            <td>{{ n.type }}</td>
            <td class="text-nowrap">
              <StateWord :state="n.state" /><span class="quiet">
                {{ n.attempts === 1 ? '1 attempt' : `${n.attempts} attempts` }}</span
              >
            </td>
            <td class="wrap-anywhere">
              {{ n.response || 'no response yet' }}
              <details>
                <summary>Content</summary>
                <pre class="mb-0">{{ JSON.stringify(n.event, null, 2) }}</pre>
              </details>
            </td>
            <td>
              <button
                v-if="n.state !== 'queued'"
                type="button"
                class="btn btn-sm btn-outline-secondary"
                :disabled="busy"
                @click="again(n.id)"
              >
                Resend
              </button>
              <span v-else-if="n.dueAt" class="quiet">retries automatically</span>
            </td>
          </tr>
          <tr v-if="sent.length === 0">
            <td colspan="5" class="quiet">No notifications yet.</td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <form v-if="looksAfter" class="sheet sheet-pad" aria-labelledby="new" @submit.prevent="add">
      <h2 id="new">New target</h2>
      <div class="fields">
        <label>Name <input v-model="name" class="form-control" required maxlength="60" autocomplete="off" /></label>
        <label
          >Address
          <input v-model="url" class="form-control" type="url" required placeholder="https://" autocomplete="off" />
        </label>
        <label
          >Of
          <select v-model="service" class="form-select">
            <option value="">All services</option>
            <option v-for="s in services ?? []" :key="s.name">{{ s.name }}</option>
          </select>
        </label>
        <fieldset>
          <legend>Types (default all)</legend>
          <BFormCheckbox
            v-for="k in data?.types ?? []"
            :key="k"
            :model-value="kinds"
            :value="k"
            @update:model-value="kinds = $event as string[]"
          >
            {{ k }}
          </BFormCheckbox>
        </fieldset>
      </div>
      <button class="btn btn-primary mt-3" :disabled="busy">Create target</button>
    </form>
    <p v-else class="quiet">Only administrators can create targets.</p>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
  gap: 0.8rem 1.5rem;
  align-items: start;
}
legend {
  font-size: inherit;
  margin-bottom: 0.3rem;
}
pre {
  font-size: 0.8125rem;
  white-space: pre-wrap;
}
</style>
