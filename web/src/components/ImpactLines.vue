<script setup lang="ts">
import type { Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useFold } from '../composables/useFold'
import { severityTone, stateText } from '../words'

const props = defineProps<{ lines: Schemas['ImpactLine'][] }>()
const { service, stage } = useFocus()
const { shown, more, unfold } = useFold(() => props.lines, 12)
</script>

<template>
  <li v-for="l in shown" :key="l.text">
    <strong :class="severityTone[l.severity]">{{ stateText(l.kind) }}</strong> {{ l.text
    }}<template v-if="l.from?.file"
      >{{ ' '
      }}<RouterLink
        class="small"
        :to="{ name: 'source', params: { service }, query: { stage, file: l.from.file, line: l.from.line } }"
        >{{ l.from.file }}:{{ l.from.line }}</RouterLink
      ></template
    >
    <span v-if="l.how" class="quiet small d-block">{{ l.how }}</span>
  </li>
  <li v-if="more">
    <button type="button" class="btn btn-link p-0" @click="unfold">Show {{ more }} more</button>
  </li>
</template>
