<script setup lang="ts">
import type { Schemas } from '../api/client'
import { useNow } from '../composables/useNow'
import { count, duration, exact, origin, value } from '../words'

defineProps<{ detail: Schemas['FunctionDetail']; service: string }>()
const now = useNow(1000)
</script>

<template>
  <div class="split">
    <section>
      <h2>Values in {{ detail.stage }}</h2>
      <div class="sheet">
        <RowTable caption="Values">
          <thead>
            <tr>
              <th scope="col">Attribute</th>
              <th scope="col">Value</th>
              <th scope="col">Source</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in detail.configuration" :key="s.name">
              <td>{{ s.name }}</td>
              <td class="wrap-anywhere">{{ value(s.value, s.unit) }}</td>
              <td>
                <template v-for="(o, i) in [s.from, ...(s.through ?? [])]" :key="i">
                  <template v-if="i">, </template>
                  <RouterLink
                    v-if="o.file"
                    :to="{
                      name: 'source',
                      params: { service },
                      query: { stage: detail.stage, file: o.file, line: o.line },
                    }"
                    >{{ origin(o) }}</RouterLink
                  >
                  <span v-else class="quiet">{{ origin(o) }}</span>
                </template>
              </td>
            </tr>
          </tbody>
        </RowTable>
      </div>
    </section>
    <section>
      <template v-if="detail.schedules.length">
        <h2>Schedules</h2>
        <div class="sheet mb-3">
          <RowTable caption="Schedules">
            <tbody>
              <tr v-for="s in detail.schedules" :key="s.trigger">
                <td>{{ s.trigger }}</td>
                <td>{{ s.text }}</td>
                <td v-if="s.enabled">
                  <span v-for="n in s.next.slice(0, 1)" :key="n" :title="s.next.map(exact).join('\n')"
                    >next run in {{ duration(Math.max(0, n - now)) }}</span
                  >
                </td>
                <td v-else class="quiet">disabled in this stage</td>
              </tr>
            </tbody>
          </RowTable>
        </div>
      </template>
      <h2>Permissions</h2>
      <div class="sheet">
        <RowTable caption="Permissions">
          <thead>
            <tr>
              <th scope="col">Verbs</th>
              <th scope="col">Resource</th>
              <th scope="col">Used</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in detail.permissions" :key="p.resource + p.verbs.join()">
              <td>{{ p.verbs.join(', ') }}</td>
              <td>
                <code>{{ p.resource }}</code>
              </td>
              <td>
                <span v-if="p.denied" class="bad">▲ denied {{ count(p.denied, 'time') }}</span>
                <span v-else-if="p.used">{{ p.used }} times</span>
                <span v-else class="wait">never</span>
              </td>
            </tr>
            <tr v-if="detail.permissions.length === 0">
              <td class="quiet">No permissions.</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
      <StageSecrets class="mt-3" :service="service" :stage="detail.stage" />
    </section>
  </div>
</template>

<style scoped>
.split {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr);
  gap: 1.5rem;
  align-items: start;
}
</style>
