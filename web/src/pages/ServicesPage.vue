<script setup lang="ts">
// All services and repositories: what is there, and what moves or goes.
import { ref } from 'vue'

import { ask, client } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'
import { count } from '../words'

useLive().open()
const session = useSession()
const {
  data: services,
  problem,
  reload,
} = useLoad(() => ask(client.GET('/services')), { topics: ['source', 'delivery'] })
const { data: repositories, reload: reloadRepositories } = useLoad(() => ask(client.GET('/repositories')), {
  topics: ['source'],
})
const { busy, problem: actProblem, run } = useAction()

const made = ref('')
/** What is about to go or to move: it is confirmed by its name. */
const doing = ref<{ kind: 'service' | 'repository' | 'move'; name: string } | null>(null)
const asking = ref(false)
const to = ref('')

function begin(kind: 'service' | 'repository' | 'move', name: string): void {
  doing.value = { kind, name }
  asking.value = true
  actProblem.value = null
  to.value = repositories.value?.find((r) => !r.services.includes(name))?.name ?? ''
}

async function both(): Promise<void> {
  await Promise.all([reload(), reloadRepositories()])
}

function make(): Promise<boolean> {
  return run(async () => {
    await ask(client.POST('/repositories', { body: { name: made.value } }))
    made.value = ''
    await both()
  })
}

function act(confirm: string): Promise<boolean> {
  return run(async () => {
    const { kind, name } = doing.value ?? { kind: 'service', name: '' }
    const query = { confirm }
    if (kind === 'service')
      await ask(client.DELETE('/services/{service}', { params: { path: { service: name }, query } }))
    if (kind === 'repository')
      await ask(client.DELETE('/repositories/{repository}', { params: { path: { repository: name }, query } }))
    if (kind === 'move')
      await ask(
        client.PUT('/services/{service}/repository', {
          params: { path: { service: name }, query },
          body: { name: to.value },
        }),
      )
    asking.value = false
    await both()
  })
}

const means = {
  service:
    'It goes off the list. Its versions and its journal stay. What still runs has to be taken away before, by a version of a commit without its folder.',
  repository: 'It goes with its whole history. It must hold no service any more.',
  move: 'Pushes to its repository are no longer built for it, and those that hold it are refused. Whoever may push to the other one makes its versions. What runs stays until a version comes in by the rules that stand in each stage.',
}
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Services and repositories</h1>
    <ProblemNote :problem="problem ?? (asking ? null : actProblem)" />
    <TypedConfirm
      v-model="asking"
      :title="`${doing?.kind === 'move' ? 'Move' : 'Remove'} ${doing?.name}`"
      :word="doing?.name ?? ''"
      :action="doing?.kind === 'move' ? 'Move it' : 'Remove it'"
      :busy="busy"
      :problem="actProblem"
      @confirm="act"
    >
      <template v-if="doing">
        <p>{{ means[doing.kind] }}</p>
        <label v-if="doing.kind === 'move'" class="d-block mb-2"
          >To the repository
          <select class="form-select" v-model="to">
            <option v-for="r in repositories ?? []" :key="r.name">{{ r.name }}</option>
          </select>
        </label>
      </template>
    </TypedConfirm>
    <div v-if="services" class="sheet mb-3">
      <RowTable caption="Services">
        <thead>
          <tr>
            <th scope="col">service</th>
            <th scope="col">repository</th>
            <th scope="col">runs in</th>
            <th scope="col">what you can do</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in services" :key="s.name">
            <td>
              <RouterLink :to="{ name: 'board', params: { service: s.name } }">{{ s.name }}</RouterLink>
              <span v-if="s.became" class="wait">called {{ s.became }} now</span>
            </td>
            <td>{{ s.repository }}</td>
            <td>{{ s.stages ? count(s.stages, 'stage') : 'no stage' }}</td>
            <td>
              <template v-if="session.may('look after')">
                <button
                  type="button"
                  class="btn btn-sm btn-outline-secondary me-2"
                  :aria-label="`Move ${s.name}`"
                  @click="begin('move', s.name)"
                >
                  Move…
                </button>
                <button
                  type="button"
                  class="btn btn-sm btn-outline-secondary"
                  :disabled="s.stages > 0"
                  :aria-label="`Remove ${s.name}`"
                  :title="s.stages ? 'Something of it still runs.' : undefined"
                  @click="begin('service', s.name)"
                >
                  Remove…
                </button>
              </template>
              <span v-else class="quiet">An administrator moves and removes it.</span>
            </td>
          </tr>
          <tr v-if="services.length === 0">
            <td colspan="4" class="quiet">There is none yet. Push a folder with a rudmar.yaml to a repository.</td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <div v-if="repositories" class="sheet mb-3">
      <RowTable caption="Repositories">
        <thead>
          <tr>
            <th scope="col">repository</th>
            <th scope="col">address to clone</th>
            <th scope="col">holds</th>
            <th scope="col">what you can do</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in repositories" :key="r.name">
            <td>{{ r.name }}</td>
            <td><CopyText :text="`git clone ${r.cloneAddress}`" /></td>
            <td>{{ r.services.join(', ') || 'no service' }}</td>
            <td>
              <MirrorBox v-if="session.may('look after')" :repository="r" @changed="reloadRepositories" />
              <button
                v-if="session.may('look after')"
                type="button"
                class="btn btn-sm btn-outline-secondary"
                :disabled="r.services.length > 0"
                :aria-label="`Remove ${r.name}`"
                :title="r.services.length ? 'It holds services.' : undefined"
                @click="begin('repository', r.name)"
              >
                Remove…
              </button>
              <span v-else class="quiet">An administrator removes it.</span>
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <form v-if="session.may('write')" class="d-flex gap-2 align-items-end" @submit.prevent="make">
      <label
        >A new repository
        <input
          class="form-control"
          v-model="made"
          required
          pattern="[a-z][a-z0-9\-]{0,39}"
          placeholder="its name"
          autocomplete="off"
        />
      </label>
      <button class="btn btn-primary" :disabled="busy">Make it</button>
    </form>
  </div>
</template>
