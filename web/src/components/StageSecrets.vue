<script setup lang="ts">
import { computed, ref } from 'vue'

import { ask, client } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../stores/session'

/** The secrets of a stage: who set them, and a form to set them. Values are never shown. */
const props = defineProps<{ service: string; stage: string; missingOnly?: boolean }>()
const emit = defineEmits<{ set: [] }>()
const session = useSession()
const path = computed(() => ({ service: props.service, stage: props.stage }))
const { data, problem, reload } = useLoad(
  () => ask(client.GET('/services/{service}/stages/{stage}/secrets', { params: { path: path.value } })),
  {
    watch: () => `${props.service} ${props.stage}`,
    topics: ['build'],
  },
)
const shown = computed(() => (data.value ?? []).filter((s) => !props.missingOnly || (!s.setAt && s.usedBy.length > 0)))
const editing = ref('')
const value = ref('')
const { busy, problem: setProblem, run } = useAction()

function edit(name: string): void {
  editing.value = editing.value === name ? '' : name
  value.value = ''
}

async function keep(): Promise<void> {
  const done = await run(async () => {
    await ask(
      client.PUT('/services/{service}/stages/{stage}/secrets/{secret}', {
        params: { path: { ...path.value, secret: editing.value } },
        body: { value: value.value },
      }),
    )
  })
  if (!done) return
  editing.value = ''
  value.value = ''
  await reload()
  emit('set')
}
</script>

<template>
  <section v-if="shown.length || problem">
    <h2>Secrets of {{ stage }}</h2>
    <ProblemNote :problem="problem" :again="reload" />
    <div class="sheet">
      <RowTable caption="Secrets of a stage">
        <tbody>
          <template v-for="s in shown" :key="s.name">
            <tr>
              <td>
                <code>{{ s.name }}</code>
              </td>
              <td>
                <span v-if="s.setAt">set by {{ s.setBy }} <TimeAgo :at="s.setAt" /></span>
                <span v-else class="wait">not set</span>
                <span class="quiet d-block">{{
                  s.usedBy.length ? `used by ${s.usedBy.join(', ')}` : 'not used in this stage'
                }}</span>
              </td>
              <td class="text-end">
                <button
                  type="button"
                  class="btn btn-sm btn-outline-secondary"
                  :disabled="!session.may('set-secrets')"
                  :aria-expanded="editing === s.name"
                  @click="edit(s.name)"
                >
                  {{ s.setAt ? 'Change value' : 'Set value' }}
                </button>
              </td>
            </tr>
            <tr v-if="editing === s.name">
              <td colspan="3">
                <form class="entry" @submit.prevent="keep">
                  <input
                    v-model="value"
                    class="form-control"
                    type="password"
                    autocomplete="new-password"
                    :aria-label="`Value of ${s.name} in ${stage}`"
                    placeholder="Value"
                    maxlength="16384"
                  />
                  <button type="submit" class="btn btn-sm btn-primary" :disabled="busy || !value">Save value</button>
                </form>
                <p class="quiet mb-0 mt-1">
                  The value is encrypted and cannot be shown again. Functions receive it with the next deployment.
                </p>
                <ProblemNote :problem="setProblem" />
              </td>
            </tr>
          </template>
        </tbody>
      </RowTable>
    </div>
  </section>
</template>

<style scoped>
.entry {
  display: flex;
  gap: 0.5rem;
}
</style>
