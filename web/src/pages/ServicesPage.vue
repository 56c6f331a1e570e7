<script setup lang="ts">
// All services and repositories, with moving and deleting them.
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
  topics: ['source', 'mirror'],
})
const { busy, problem: actProblem, run } = useAction()

const made = ref('')
/** The object to delete or move, which its name confirms. */
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
    'This removes the service from the list. Its versions and journal are kept. Delete its deployed resources first, with a commit that removes its folder.',
  repository: 'This deletes the repository and its complete history. It must not contain services.',
  move: 'Pushes to its current repository are no longer built for it, and pushes that contain it are refused. Everyone who can push to the new repository creates its versions. The deployed resources stay until a version enters under the standing rules of each stage.',
}
</script>

<template>
  <div class="page">
    <h1 class="mb-3">Services and repositories</h1>
    <ProblemNote :problem="problem ?? (asking ? null : actProblem)" />
    <TypedConfirm
      v-model="asking"
      :title="`${doing?.kind === 'move' ? 'Move' : 'Delete'} ${doing?.name}`"
      :word="doing?.name ?? ''"
      :action="doing?.kind === 'move' ? `Move ${doing?.name}` : `Delete ${doing?.name}`"
      :busy="busy"
      :problem="actProblem"
      @confirm="act"
    >
      <template v-if="doing">
        <p>{{ means[doing.kind] }}</p>
        <label v-if="doing.kind === 'move'" class="d-block mb-2"
          >Target repository
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
            <th scope="col">Service</th>
            <th scope="col">Repository</th>
            <th scope="col">Deployed in</th>
            <th scope="col">Actions</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in services" :key="s.name">
            <td>
              <RouterLink :to="{ name: 'board', params: { service: s.name } }">{{ s.name }}</RouterLink>
              <span v-if="s.renamedTo" class="wait">called {{ s.renamedTo }} now</span>
            </td>
            <td>{{ s.repository }}</td>
            <td>{{ s.stages ? count(s.stages, 'stage') : 'no stage' }}</td>
            <td>
              <template v-if="session.may('administer')">
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
                  :aria-label="`Delete ${s.name}`"
                  :title="s.stages ? 'The service still has deployed resources.' : undefined"
                  @click="begin('service', s.name)"
                >
                  Delete…
                </button>
              </template>
              <span v-else class="quiet">Only administrators can move or delete it.</span>
            </td>
          </tr>
          <tr v-if="services.length === 0">
            <td colspan="4" class="quiet">No services yet. Push a folder with a rudmar.yaml to a repository.</td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <div v-if="repositories" class="sheet mb-3">
      <RowTable caption="Repositories">
        <thead>
          <tr>
            <th scope="col">Repository</th>
            <th scope="col">Clone command</th>
            <th scope="col">Services</th>
            <th scope="col">Actions</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in repositories" :key="r.name">
            <td>{{ r.name }}</td>
            <td><CopyText :text="`git clone ${r.cloneAddress}`" /></td>
            <td>{{ r.services.join(', ') || 'none' }}</td>
            <td>
              <MirrorBox v-if="session.may('administer')" :repository="r" @changed="reloadRepositories" />
              <button
                v-if="session.may('administer')"
                type="button"
                class="btn btn-sm btn-outline-secondary"
                :disabled="r.services.length > 0"
                :aria-label="`Delete ${r.name}`"
                :title="r.services.length ? 'The repository contains services.' : undefined"
                @click="begin('repository', r.name)"
              >
                Delete…
              </button>
              <span v-else class="quiet">Only administrators can delete it.</span>
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <form v-if="session.may('write')" class="d-flex gap-2 align-items-end" @submit.prevent="make">
      <label
        >New repository
        <input
          class="form-control"
          v-model="made"
          required
          pattern="[a-z][a-z0-9\-]{0,39}"
          placeholder="Name"
          autocomplete="off"
        />
      </label>
      <button class="btn btn-primary" :disabled="busy">Create repository</button>
    </form>
  </div>
</template>
