<script setup lang="ts">
// Who is signed in, and the tokens with which machines act in their name.
import { computed, nextTick, ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'
import { clock, day, exact } from '../words'

useLive().open()
const session = useSession()
const { data: tokens, problem, reload } = useLoad(() => ask(client.GET('/me/tokens')))
const { data: services } = useLoad(() => ask(client.GET('/services')))
const { data: copies, reload: reloadCopies } = useLoad(() => ask(client.GET('/copies')), { topics: ['copy'] })
const { busy, problem: actProblem, run } = useAction()

/** What each right lets somebody do. */
const means: Record<string, string> = {
  look: 'read everything; always part of it',
  try: 'call functions by hand',
  write: 'push, commit, make repositories',
  ask: 'ask for a version in a stage',
  approve: 'say yes or no to a version',
  'pass over': 'let a version in without one of its gates',
  secrets: 'set secrets',
  run: 'run plans, go on, cancel, take back',
  'look after': 'move and remove services and repositories',
}
const name = ref('')
const acts = ref<string[]>(['look'])
const places = ref<string[]>([])
const days = ref(90)
const made = ref<Schemas['MadeToken'] | null>(null)
const shown = ref<HTMLElement | null>(null)
const own = computed(() => session.person)

function make(): Promise<boolean> {
  return run(async () => {
    made.value = await ask(
      client.POST('/me/tokens', {
        body: { name: name.value, acts: acts.value, places: places.value, days: days.value },
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
    await ask(client.DELETE('/me/tokens/{id}', { params: { path: { id } } }))
    if (made.value?.token.id === id) made.value = null
    await reload()
  })
}

function takeAway(c: Schemas['PrivateCopy']): Promise<boolean> {
  return run(async () => {
    const path = { service: c.service, handle: c.handle }
    await ask(client.DELETE('/services/{service}/copies/{handle}', { params: { path } }))
    await reloadCopies()
  })
}

const everywhere = (list: string[]): string => list.join(', ') || 'every service'
const runsOut = (t: Schemas['Token']): boolean => t.until < Date.now()
</script>

<template>
  <div class="page">
    <h1 class="mb-3">You</h1>
    <ProblemNote :problem="problem ?? actProblem" />
    <dl v-if="own" class="sheet sheet-pad who mb-3">
      <dt>handle</dt>
      <dd>{{ own.handle }}</dd>
      <dt>role</dt>
      <dd>{{ own.role }} in {{ everywhere(own.places) }}</dd>
      <dt>groups</dt>
      <dd>{{ own.groups.join(', ') || 'none' }}</dd>
      <dt>may</dt>
      <dd>{{ own.abilities.join(', ') }}</dd>
    </dl>
    <section aria-labelledby="tokens">
      <h2 id="tokens">Tokens</h2>
      <p class="quiet">
        A machine acts with one in your name: never with more than you may yourself. It is a bearer token for the API
        and
        <code>RUDMAR_TOKEN</code> for the command line, and with your handle the password of git.
      </p>
      <section v-if="made" class="sheet sheet-pad mb-3" aria-label="The new token">
        <p ref="shown" tabindex="-1" class="mb-1">
          <strong>{{ made.token.name }}</strong> was made. It is shown this once: copy it now.
        </p>
        <CopyText :text="made.text" />
        <p class="mt-2 mb-0">
          <button type="button" class="btn btn-sm btn-outline-secondary" @click="made = null">I have it</button>
        </p>
      </section>
      <div v-if="tokens" class="sheet mb-3 overflow-auto">
        <RowTable caption="Tokens">
          <thead>
            <tr>
              <th scope="col">token</th>
              <th scope="col">for</th>
              <th scope="col">in</th>
              <th scope="col">until</th>
              <th scope="col">last used</th>
              <th scope="col">what you can do</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in tokens" :key="t.id">
              <td>{{ t.name }}</td>
              <td>{{ t.acts.join(', ') }}</td>
              <td>{{ everywhere(t.places) }}</td>
              <td>
                <span v-if="runsOut(t)" class="wait">ran out </span><TimeAgo v-if="runsOut(t)" :at="t.until" />
                <template v-else>{{ day(t.until) }}</template>
              </td>
              <td>
                <template v-if="t.usedAt"><TimeAgo :at="t.usedAt" /> from {{ t.usedFrom }}</template>
                <span v-else class="quiet">never</span>
              </td>
              <td>
                <EndButton :what="t.name" :busy="busy" @end="end(t.id)" />
              </td>
            </tr>
            <tr v-if="tokens.length === 0">
              <td colspan="6" class="quiet">You have none. Make one below, or sign in a machine with rudmar login.</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
      <form class="sheet sheet-pad mb-3" aria-labelledby="new" @submit.prevent="make">
        <h2 id="new">A new token</h2>
        <div class="fields">
          <label
            >Its name
            <input
              v-model="name"
              class="form-control"
              required
              maxlength="60"
              placeholder="such as nightly-build"
              autocomplete="off"
            />
          </label>
          <label
            >Days until it ends
            <input v-model.number="days" class="form-control" type="number" min="1" max="365" required />
          </label>
          <fieldset>
            <legend>What it may do</legend>
            <BFormCheckbox
              v-for="a in own?.abilities ?? []"
              :key="a"
              :model-value="acts"
              @update:model-value="acts = $event as string[]"
              :value="a"
              :disabled="a === 'look'"
            >
              {{ a }} <span class="quiet">{{ means[a] }}</span>
            </BFormCheckbox>
          </fieldset>
          <fieldset>
            <legend>Where (none: everywhere)</legend>
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
        <button class="btn btn-primary mt-3" :disabled="busy">Make it</button>
      </form>
    </section>
    <section aria-labelledby="copies">
      <h2 id="copies">Private copies</h2>
      <p class="quiet">
        <code>rudmar watch</code> keeps a copy of a service’s first stage in step with your folder: with data and
        addresses of its own. It goes by itself once nobody uses it.
      </p>
      <div v-if="copies" class="sheet overflow-auto">
        <RowTable caption="Private copies">
          <thead>
            <tr>
              <th scope="col">copy of</th>
              <th scope="col">whose</th>
              <th scope="col">last used</th>
              <th scope="col">goes by itself</th>
              <th scope="col">what you can do</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="c in copies" :key="c.service + c.handle">
              <td>{{ c.service }} in {{ c.stage }} on {{ c.target }}</td>
              <td>{{ c.handle }}</td>
              <td><TimeAgo :at="c.usedAt" /></td>
              <td :title="exact(c.endsAt)">at {{ clock(c.endsAt).slice(0, 5) }}</td>
              <td>
                <button
                  type="button"
                  class="btn btn-sm btn-outline-secondary"
                  :disabled="busy || (c.handle !== own?.handle && !session.may('look after'))"
                  :title="
                    c.handle !== own?.handle && !session.may('look after')
                      ? 'Its owner or an administrator takes it away.'
                      : undefined
                  "
                  :aria-label="`Take the copy of ${c.service} away`"
                  @click="takeAway(c)"
                >
                  Take it away, with its data
                </button>
              </td>
            </tr>
            <tr v-if="copies.length === 0">
              <td colspan="5" class="quiet">There is none. In the folder of a service, run rudmar watch.</td>
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
</style>
