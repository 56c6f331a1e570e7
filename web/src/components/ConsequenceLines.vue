<script setup lang="ts">
import { useFold } from '../composables/useFold'

const props = defineProps<{ lines: { tone: string; kind: string; text: string }[] }>()
const { shown, more, unfold } = useFold(() => props.lines, 12)
</script>

<template>
  <li v-for="l in shown" :key="l.text">
    <strong :class="l.tone">{{ l.kind }}</strong> {{ l.text }}
  </li>
  <li v-if="more">
    <button type="button" class="btn btn-link p-0" @click="unfold">{{ more }} more of this kind</button>
  </li>
</template>
