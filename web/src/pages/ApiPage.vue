<script setup lang="ts">
// The API reference, from its description.
import { computed } from 'vue'
import { parse } from 'yaml'

import { useAddress } from '../composables/useAddress'
import { useLoad } from '../composables/useLoad'
import { count } from '../words'

interface Schema {
  $ref?: string
  type?: string
  format?: string
  enum?: string[]
  items?: Schema
  properties?: Record<string, Schema>
  required?: string[]
  description?: string
}
interface Parameter {
  $ref?: string
  name: string
  in: string
  required?: boolean
  description?: string
  schema?: Schema
}
interface Operation {
  operationId: string
  summary: string
  parameters?: Parameter[]
  requestBody?: { content: Record<string, { schema: Schema }> }
  responses: Record<string, { description?: string; content?: Record<string, { schema: Schema }> }>
}
interface Description {
  paths: Record<string, Record<string, Operation> & { parameters?: Parameter[] }>
  components: { schemas: Record<string, Schema>; parameters: Record<string, Parameter> }
}

const { data, problem, pending, reload } = useLoad(
  async () => parse(await (await fetch('/api/openapi.yaml')).text()) as Description,
)
const find = useAddress('find', '')
const methods = ['get', 'post', 'put', 'patch', 'delete']

function said(s: Schema | undefined): string {
  if (!s) return ''
  if (s.$ref) return s.$ref.split('/').at(-1) ?? ''
  if (s.type === 'array') return `list of ${said(s.items)}`
  if (s.enum) return s.enum.join(' | ')
  return s.format ?? s.type ?? 'any'
}
const operations = computed(() =>
  Object.entries(data.value?.paths ?? {}).flatMap(([path, item]) =>
    methods
      .filter((m) => item[m])
      .map((m) => {
        const o = item[m] as Operation
        const parameters = [...(item.parameters ?? []), ...(o.parameters ?? [])].map((p) =>
          p.$ref ? (data.value?.components.parameters[p.$ref.split('/').at(-1) ?? ''] ?? p) : p,
        )
        const answer = Object.entries(o.responses).find(([status]) => status.startsWith('2'))
        return {
          id: o.operationId,
          method: m.toUpperCase(),
          path,
          summary: o.summary,
          parameters,
          body: said(Object.values(o.requestBody?.content ?? {})[0]?.schema),
          status: answer?.[0] ?? '',
          gives: said(Object.values(answer?.[1].content ?? {})[0]?.schema),
          about: answer?.[1].description ?? '',
        }
      }),
  ),
)
const shown = computed(() => {
  const words = find.value.toLowerCase().split(/\s+/)
  return operations.value.filter((o) =>
    words.every((w) => `${o.method} ${o.path} ${o.summary} ${o.id}`.toLowerCase().includes(w)),
  )
})
const schemas = computed(() => Object.entries(data.value?.components.schemas ?? {}))
</script>

<template>
  <div class="page">
    <div class="page-head">
      <h1>API</h1>
      <input
        v-model="find"
        class="form-control find"
        type="search"
        placeholder="Filter by path or summary"
        aria-label="Filter"
      />
      <span class="quiet">{{ count(shown.length, 'operation') }}</span>
      <a href="/api/openapi.yaml">openapi.yaml</a>
    </div>
    <p class="quiet">
      JSON under <code>/api</code>. Authenticate with a bearer token, or username and password (HTTP Basic). Errors are
      <RouterLink :to="{ name: 'doc', params: { name: 'problems' } }">problem details</RouterLink>.
    </p>
    <ProblemNote :problem="problem" :again="reload" />
    <PageWait v-if="pending" />
    <details v-for="o in shown" :key="o.id" class="sheet operation">
      <summary>
        <code class="method">{{ o.method }}</code> <code class="wrap-anywhere">{{ o.path }}</code>
        <span class="quiet">{{ o.summary }}</span>
      </summary>
      <div class="sheet-pad pt-0">
        <RowTable caption="Parameters" v-if="o.parameters.length">
          <thead>
            <tr>
              <th scope="col">Parameter</th>
              <th scope="col">In</th>
              <th scope="col">Type</th>
              <th scope="col">Description</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in o.parameters" :key="p.name">
              <td>
                <code>{{ p.name }}</code><template v-if="p.required">, required</template>
              </td>
              <td>{{ p.in }}</td>
              <td>{{ said(p.schema) }}</td>
              <td>{{ p.description }}</td>
            </tr>
          </tbody>
        </RowTable>
        <p v-if="o.body" class="mb-1">
          Request body <a :href="`#${o.body}`">{{ o.body }}</a>
        </p>
        <p class="mb-0">
          Answers {{ o.status }} <template v-if="o.gives">with {{ o.gives }}</template
          >: {{ o.about }}
        </p>
      </div>
    </details>
    <h2 class="mt-4">Types</h2>
    <details v-for="[name, s] in schemas" :id="name" :key="name" class="sheet operation">
      <summary>
        <code>{{ name }}</code> <span class="quiet">{{ s.description }}</span>
      </summary>
      <RowTable caption="Fields" v-if="s.properties">
        <thead>
          <tr>
            <th scope="col">Field</th>
            <th scope="col">Type</th>
            <th scope="col">Description</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(p, field) in s.properties" :key="field">
            <td>
              <code>{{ field }}</code><template v-if="!s.required?.includes(String(field))">, optional</template>
            </td>
            <td>{{ said(p) }}</td>
            <td>{{ p.description }}</td>
          </tr>
        </tbody>
      </RowTable>
      <p v-else class="sheet-pad mb-0">{{ said(s) }}</p>
    </details>
  </div>
</template>

<style scoped>
.find {
  width: 18rem;
}
.operation {
  margin-bottom: 0.3rem;
  overflow-x: auto;
}
summary {
  padding: 0.35rem 0.7rem;
}
.method {
  display: inline-block;
  min-width: 4rem;
  font-weight: 600;
}
</style>
