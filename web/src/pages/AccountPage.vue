<script setup lang="ts">
// The signed-in user, and their tokens for machines.
import { computed, nextTick, ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import AccountSessions from '../components/AccountSessions.vue'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'
import { clock, day, exact } from '../words'

useLive().open()
const session = useSession()
const { data: tokens, problem, reload } = useLoad(() => ask(client.GET('/account/tokens')))
const { data: services } = useLoad(() => ask(client.GET('/services')))
const { data: copies, reload: reloadCopies } = useLoad(() => ask(client.GET('/copies')), { topics: ['copy'] })
const { busy, problem: actProblem, run } = useAction()

/** The description of each right. */
const means: Record<string, string> = {
  view: 'view services, versions and logs; always included',
  'view-bodies': 'view the bodies of events and dead letters',
  invoke: 'invoke functions',
  write: 'push, commit, create repositories',
  request: 'request deliveries',
  approve: 'approve or reject versions',
  override: 'override gates',
  'set-secrets': 'set secrets',
  'use-secrets': 'use the values of secrets in a private copy',
  deploy: 'run, retry and cancel deployments, roll back',
  administer: 'move and delete services and repositories, manage notifications',
}
const name = ref('')
const acts = ref<string[]>(['view'])
const places = ref<string[]>([])
const days = ref(90)
const made = ref<Schemas['CreatedToken'] | null>(null)
const shown = ref<HTMLElement | null>(null)
const own = computed(() => session.person)

function make(): Promise<boolean> {
  return run(async () => {
    made.value = await ask(
      client.POST('/account/tokens', {
        body: { name: name.value, permissions: acts.value, scopes: places.value, days: days.value },
      }),
    )
    name.value = ''
    await reload()
    await nextTick()
    shown.value?.focus()
  })
}

function end(id: number): Promise<boolean> {
  return run(async () => {
    await ask(client.DELETE('/account/tokens/{id}', { params: { path: { id } } }))
    if (made.value?.token.id === id) made.value = null
    await reload()
  })
}

function deletions(c: Schemas['PrivateCopy']): Promise<boolean> {
  return run(async () => {
    const path = { service: c.service, username: c.username }
    await ask(client.DELETE('/services/{service}/copies/{username}', { params: { path } }))
    await reloadCopies()
  })
}

const everywhere = (list: string[]): string => list.join(', ') || 'All services'
const runsOut = (t: Schemas['Token']): boolean => t.expiresAt < Date.now()
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Account</h1>
    <ProblemNote :problem="problem ?? actProblem" />
    <dl v-if="own" class="sheet sheet-pad who mb-3">
      <dt>Username</dt>
      <dd>{{ own.username }}</dd>
      <dt>Rights</dt>
      <dd>
        <div v-for="r in own.rights" :key="r.right + r.scope">
          {{ r.right }} {{ r.scope === 'everywhere' ? r.scope : 'in ' + r.scope }}
        </div>
        <span v-if="own.rights.length === 0">none; an administrator grants them with rudmar right grant</span>
      </dd>
      <dt>Groups</dt>
      <dd>{{ own.groups.join(', ') || 'none' }}</dd>
      <dt>Permissions</dt>
      <dd>{{ own.permissions.join(', ') }}</dd>
    </dl>
    <section aria-labelledby="tokens">
      <h2 id="tokens">Tokens</h2>
      <p class="quiet">
        Machines act in your name with a token, which never has more rights than you. Use it as a bearer token for the
        API, and
        <code>RUDMAR_TOKEN</code> for the command line, or as the git password with your username.
      </p>
      <section v-if="made" class="sheet sheet-pad mb-3" aria-label="New token">
        <p ref="shown" tabindex="-1" class="mb-1">
          <strong>{{ made.token.name }}</strong> was created. Copy it now: it cannot be shown again.
        </p>
        <CopyText :text="made.text" />
        <p class="mt-2 mb-0">
          <button type="button" class="btn btn-sm btn-outline-secondary" @click="made = null">Done</button>
        </p>
      </section>
      <div v-if="tokens" class="sheet mb-3 overflow-auto">
        <RowTable caption="Tokens">
          <thead>
            <tr>
              <th scope="col">Token</th>
              <th scope="col">Permissions</th>
              <th scope="col">Scope</th>
              <th scope="col">Expires</th>
              <th scope="col">Last used</th>
              <th scope="col">Actions</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in tokens" :key="t.id">
              <td>{{ t.name }}</td>
              <td>{{ t.permissions.join(', ') }}</td>
              <td>{{ everywhere(t.scopes) }}</td>
              <td>
                <span v-if="runsOut(t)" class="wait">expired </span><TimeAgo v-if="runsOut(t)" :at="t.expiresAt" />
                <template v-else>{{ day(t.expiresAt) }}</template>
              </td>
              <td>
                <template v-if="t.usedAt"><TimeAgo :at="t.usedAt" /> from {{ t.usedFrom }}</template>
                <span v-else class="quiet">never</span>
              </td>
              <td>
                <EndButton :what="t.name" verb="Revoke" :busy="busy" @end="end(t.id)" />
              </td>
            </tr>
            <tr v-if="tokens.length === 0">
              <td colspan="6" class="quiet">No tokens. Create one below, or run rudmar login on a machine.</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
      <form class="sheet sheet-pad mb-3" aria-labelledby="new" @submit.prevent="make">
        <h2 id="new">New token</h2>
        <div class="fields">
          <label
            >Name
            <input
              v-model="name"
              class="form-control"
              required
              maxlength="60"
              placeholder="nightly-build"
              autocomplete="off"
            />
          </label>
          <label
            >Expires in (days)
            <input v-model.number="days" class="form-control" type="number" min="1" max="365" required />
          </label>
          <fieldset>
            <legend>Permissions</legend>
            <BFormCheckbox
              v-for="a in own?.permissions ?? []"
              :key="a"
              :model-value="acts"
              @update:model-value="acts = $event as string[]"
              :value="a"
              :disabled="a === 'view'"
            >
              {{ a }} <span class="quiet">{{ means[a] }}</span>
            </BFormCheckbox>
          </fieldset>
          <fieldset>
            <legend>Scope (default all services)</legend>
            <BFormCheckbox
              v-for="s in services ?? []"
              :key="s.name"
              :model-value="places"
              @update:model-value="places = $event as string[]"
              :value="s.name"
            >
              {{ s.name }}
            </BFormCheckbox>
          </fieldset>
        </div>
        <button class="btn btn-primary mt-3" :disabled="busy">Create token</button>
      </form>
    </section>
    <AccountSessions />
    <section aria-labelledby="copies">
      <h2 id="copies"><GlossaryTerm term="private copy">Private copies</GlossaryTerm></h2>
      <p class="quiet">
        <code>rudmar watch</code> syncs a copy of a service’s first stage with your folder. It has its own data and
        addresses and is deleted automatically when it is unused.
      </p>
      <div v-if="copies" class="sheet overflow-auto">
        <RowTable caption="Private copies">
          <thead>
            <tr>
              <th scope="col">Service</th>
              <th scope="col">Owner</th>
              <th scope="col">Last used</th>
              <th scope="col">Deleted</th>
              <th scope="col">Actions</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="c in copies" :key="c.service + c.username">
              <td>{{ c.service }} in {{ c.stage }} on {{ c.target }}</td>
              <td>{{ c.username }}</td>
              <td><TimeAgo :at="c.usedAt" /></td>
              <td :title="exact(c.endsAt)">at {{ clock(c.endsAt).slice(0, 5) }}</td>
              <td>
                <button
                  type="button"
                  class="btn btn-sm btn-outline-secondary"
                  :disabled="busy || (c.username !== own?.username && !session.may('administer'))"
                  :title="
                    c.username !== own?.username && !session.may('administer')
                      ? 'Only its owner or an administrator can delete it.'
                      : undefined
                  "
                  :aria-label="`Delete the copy of ${c.service}`"
                  @click="deletions(c)"
                >
                  Delete copy and data
                </button>
              </td>
            </tr>
            <tr v-if="copies.length === 0">
              <td colspan="5" class="quiet">No private copies. Run rudmar watch in the folder of a service.</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
    </section>
  </div>
</template>

<style scoped>
.who {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.2rem 1rem;
}
.who dt {
  font-weight: normal;
  color: var(--quiet);
}
.who dd {
  margin: 0;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(17rem, 1fr));
  gap: 0.8rem 1.5rem;
  align-items: start;
}
legend {
  font-size: inherit;
  margin-bottom: 0.3rem;
}
/* a label of two lines begins beside its box */
fieldset :deep(.form-check-label) {
  display: inline;
}
</style>
