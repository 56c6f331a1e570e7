<script setup lang="ts">
import { ask, client } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useFocus } from '../composables/useFocus'
import { useParts } from '../composables/useParts'
import { useLine } from '../stores/line'
import { exact } from '../words'

const { service } = useFocus()
const line = useLine()
const find = useAddress('find', '')
const who = useAddress('person', '')
const where = useAddress('of', '')
const { rows, more, older, problem, pending, reload } = useParts(
  (before) =>
    ask(
      client.GET('/services/{service}/journal', {
        params: {
          path: { service: service.value },
          query: {
            before,
            text: find.value || undefined,
            person: who.value || undefined,
            stage: where.value || undefined,
          },
        },
      }),
    ),
  (e) => e.id,
  {
    watch: () => [service.value, find.value, who.value, where.value].join('\n'),
    topics: ['source', 'build', 'delivery', 'deployment'],
  },
)
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <div class="page-head">
      <h1><GlossaryTerm term="journal">Journal</GlossaryTerm></h1>
      <span class="quiet">Every action with its user and time; entries never change</span>
    </div>
    <div class="controls">
      <input v-model.lazy="find" class="form-control" type="search" placeholder="Filter by text" aria-label="Filter" />
      <input
        v-model.lazy="who"
        class="form-control"
        type="search"
        placeholder="User"
        aria-label="User"
        autocapitalize="off"
      />
      <select v-model="where" class="form-select" aria-label="Stage">
        <option value="">All stages</option>
        <option v-for="s in line.stages" :key="s">{{ s }}</option>
      </select>
    </div>
    <PageWait v-if="pending" />
    <div v-if="rows" class="sheet overflow-auto" tabindex="-1">
      <RowTable caption="Journal, newest first">
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th scope="col">User</th>
            <th scope="col">Stage</th>
            <th scope="col">Action</th>
            <th scope="col">Details</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in rows" :key="e.id">
            <td class="text-nowrap">
              <time :datetime="new Date(e.at).toISOString()">{{ exact(e.at) }}</time>
            </td>
            <td>
              {{ e.person || 'Rudmar' }}<span v-if="e.token" class="quiet"> with token {{ e.token }}</span>
            </td>
            <td>{{ e.stage }}</td>
            <td class="text-nowrap">{{ e.action }}</td>
            <td class="wrap-anywhere">{{ e.text }}</td>
          </tr>
          <tr v-if="rows.length === 0">
            <td colspan="5" class="quiet">
              {{ find || who || where ? 'No matching entries.' : 'No entries yet.' }}
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <MoreRows :more="more" :older="older" what="lines" />
  </div>
</template>
