<script setup lang="ts">
import { useNow } from '../composables/useNow'
import { ago, exact } from '../words'

defineProps<{ at: number }>()
const now = useNow()
</script>

<template>
  <time :title="exact(at)" :datetime="new Date(at).toISOString()" class="text-nowrap">{{ ago(at, now) }}</time>
</template>
