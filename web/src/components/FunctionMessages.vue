<script setup lang="ts">
import { computed, ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'
import { count } from '../words'

/** A function's waiting messages and dead letters. */
const props = defineProps<{ detail: Schemas['FunctionDetail']; service: string }>()
const session = useSession()
const target = ref(props.detail.targets[0] ?? '')
const path = computed(() => ({ service: props.service, stage: props.detail.stage }))

async function list(deadLetter: boolean): Promise<Schemas['Message'][]> {
  const all = await ask(
    client.GET('/services/{service}/stages/{stage}/messages', {
      params: { path: path.value, query: { target: target.value, deadLetter } },
    }),
  )
  return all.filter((m) => m.functions.includes(props.detail.function))
}
const { data, problem, reload } = useLoad(async () => ({ deadLetters: await list(true), waiting: await list(false) }), {
  watch: () => target.value,
  topics: ['observation', 'deployment'],
})
const open = ref<number | null>(null)
const dropping = ref<number[]>([])
const asking = ref(false)
const said = ref('')
const { busy, problem: actionProblem, run } = useAction()

function each(ids: number[], what: string, act: (message: number) => Promise<unknown>): Promise<boolean> {
  return run(async () => {
    for (const id of ids) await act(id)
    said.value = `${count(ids.length, 'message')} ${what}`
    asking.value = false
    await reload()
  })
}
/** Asks for confirmation before messages are deleted. */
function sure(ids: number[]): void {
  dropping.value = ids
  actionProblem.value = null
  asking.value = true
}
const again = (ids: number[]) =>
  each(ids, 'retried', (message) =>
    ask(
      client.POST('/services/{service}/stages/{stage}/messages/{message}', {
        params: { path: { ...path.value, message }, query: { target: target.value } },
      }),
    ),
  )
const drop = (ids: number[]) =>
  each(ids, 'deleted', (message) =>
    ask(
      client.DELETE('/services/{service}/stages/{stage}/messages/{message}', {
        params: { path: { ...path.value, message }, query: { target: target.value } },
      }),
    ),
  )
const text = (m: Schemas['Message']) => JSON.stringify(m.body)
const ids = computed(() => (data.value?.deadLetters ?? []).map((m) => m.id))
</script>

<template>
  <section>
    <div class="controls">
      <select class="form-select" v-if="detail.targets.length > 1" v-model="target" aria-label="Target">
        <option v-for="t in detail.targets" :key="t">{{ t }}</option>
      </select>
      <button type="button" class="btn btn-sm btn-outline-secondary" @click="reload()">Refresh</button>
      <span class="quiet" role="status">{{ said }}</span>
    </div>
    <ProblemNote :problem="problem" :again="reload" />
    <ProblemNote :problem="asking ? null : actionProblem" />
    <TypedConfirm
      v-model="asking"
      :title="`Delete ${count(dropping.length, 'message')}`"
      :word="detail.function"
      :action="`Delete ${count(dropping.length, 'message')}`"
      :busy="busy"
      :problem="actionProblem"
      @confirm="drop(dropping)"
      >Deleted messages cannot be restored.</TypedConfirm
    >
    <EmptyNote v-if="data && data.deadLetters.length + data.waiting.length === 0" title="No messages">
      Messages from queues, objects and other functions wait here until {{ detail.function }} has processed them. A
      message that fails five times becomes a dead letter, which you can inspect and retry.
    </EmptyNote>
    <template v-if="data?.deadLetters.length">
      <div class="head">
        <h2>Dead letters: {{ data.deadLetters.length }}</h2>
        <template v-if="ids.length > 1">
          <button
            type="button"
            class="btn btn-sm btn-primary"
            :disabled="busy || !session.may('deploy')"
            @click="again(ids)"
          >
            Retry all
          </button>
          <button
            type="button"
            class="btn btn-sm btn-outline-secondary"
            :disabled="busy || !session.may('deploy')"
            @click="sure(ids)"
          >
            Delete all
          </button>
        </template>
      </div>
      <div class="sheet mb-3">
        <RowTable caption="Dead letters">
          <thead>
            <tr>
              <th scope="col">Sent</th>
              <th scope="col">Source</th>
              <th scope="col">Last error and message</th>
              <th scope="col"><span class="visually-hidden">Actions</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="m in data.deadLetters" :key="m.id">
              <td class="text-nowrap"><TimeAgo :at="m.sentAt" /></td>
              <td>
                <code>{{ m.source }}</code>
              </td>
              <td class="wrap-anywhere">
                <span class="bad">{{ m.reason }}</span>
                <button
                  type="button"
                  class="btn btn-link body mono"
                  :aria-expanded="open === m.id"
                  @click="open = open === m.id ? null : m.id"
                >
                  {{ open === m.id ? 'Show less' : text(m) }}
                </button>
                <pre v-if="open === m.id" class="block">{{ JSON.stringify(m.body, null, 2) }}</pre>
              </td>
              <td class="text-nowrap text-end">
                <button
                  type="button"
                  class="btn btn-sm btn-outline-secondary"
                  :disabled="busy || !session.may('deploy')"
                  @click="again([m.id])"
                >
                  Retry
                </button>
                <button
                  type="button"
                  class="btn btn-sm btn-link"
                  :disabled="busy || !session.may('deploy')"
                  @click="sure([m.id])"
                >
                  Delete
                </button>
              </td>
            </tr>
          </tbody>
        </RowTable>
      </div>
    </template>
    <template v-if="data?.waiting.length">
      <h2>Waiting: {{ data.waiting.length }}</h2>
      <div class="sheet">
        <RowTable caption="Waiting messages">
          <thead>
            <tr>
              <th scope="col">Sent</th>
              <th scope="col">Source</th>
              <th scope="col">Attempts</th>
              <th scope="col">Message</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="m in data.waiting" :key="m.id">
              <td class="text-nowrap"><TimeAgo :at="m.sentAt" /></td>
              <td>
                <code>{{ m.source }}</code>
              </td>
              <td>
                {{ m.attempts }}<span v-if="m.reason" class="bad wrap-anywhere"> {{ m.reason }}</span>
              </td>
              <td class="mono wrap-anywhere">{{ text(m) }}</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
    </template>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  gap: 0.7rem;
  align-items: center;
  margin-bottom: 0.6rem;
}
.head h2 {
  margin: 0;
}
.body {
  display: block;
  max-width: 100%;
  padding: 0;
  text-align: left;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-size: 0.8125rem;
}
</style>
