<script setup lang="ts">
// The user's sessions, and a form to change the password.
import { computed, ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import { exact } from '../words'
import EndButton from './EndButton.vue'
import ProblemNote from './ProblemNote.vue'
import RowTable from './RowTable.vue'
import TimeAgo from './TimeAgo.vue'

const session = useSession()
const { data: list, problem, reload } = useLoad(() => ask(client.GET('/account/sessions')))
const { busy, problem: actProblem, run } = useAction()

const current = ref('')
const password = ref('')
const repeated = ref('')
const differs = computed(() => repeated.value !== '' && repeated.value !== password.value)

function change(): Promise<boolean> {
  return run(async () => {
    await ask(client.PUT('/account/password', { body: { current: current.value, password: password.value } }))
    await session.signOut() // all sessions have ended
  })
}

function end(s: Schemas['AccountSession']): Promise<boolean> {
  return run(async () => {
    await ask(client.DELETE('/account/sessions/{id}', { params: { path: { id: s.id } } }))
    await reload()
  })
}
</script>

<template>
  <section aria-labelledby="sessions">
    <h2 id="sessions">Sessions</h2>
    <ProblemNote :problem="problem ?? actProblem" />
    <p class="quiet">A session ends after two hours without requests, and after twelve hours at the latest.</p>
    <div v-if="list" class="sheet mb-3 overflow-auto">
      <RowTable caption="Sessions">
        <thead>
          <tr>
            <th scope="col">Started</th>
            <th scope="col">Address</th>
            <th scope="col">Last used</th>
            <th scope="col">Actions</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in list" :key="s.id">
            <td>{{ exact(s.startedAt) }}</td>
            <td>{{ s.address }}</td>
            <td><TimeAgo :at="s.usedAt" /></td>
            <td>
              <span v-if="s.current" class="quiet">this session</span>
              <EndButton v-else :what="`the session from ${s.address}`" verb="End" :busy="busy" @end="end(s)" />
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <form class="sheet sheet-pad mb-3" aria-labelledby="password" @submit.prevent="change">
      <h2 id="password">Change password</h2>
      <p class="quiet">All your sessions end; tokens stay valid.</p>
      <div class="fields">
        <label
          >Present password
          <input v-model="current" class="form-control" type="password" required autocomplete="current-password" />
        </label>
        <label
          >New password
          <input
            v-model="password"
            class="form-control"
            type="password"
            required
            minlength="12"
            autocomplete="new-password"
          />
        </label>
        <label
          >Repeat the new password
          <input v-model="repeated" class="form-control" type="password" required autocomplete="new-password" />
        </label>
      </div>
      <p v-if="differs" class="bad mb-0" role="alert">The passwords differ.</p>
      <button class="btn btn-primary mt-3" :disabled="busy || differs">Change password</button>
    </form>
  </section>
</template>

<style scoped>
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 0.75rem 1rem;
}
</style>
