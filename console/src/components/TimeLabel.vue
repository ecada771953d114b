<script setup lang="ts">
import { shortTime, wholeTime } from '../app/times'

defineProps<{ at: string | null | undefined; never?: string }>()
</script>

<template>
  <time v-if="at" :datetime="at" :title="wholeTime(at)" class="time">{{ shortTime(at) }}</time>
  <span v-else class="quiet">{{ never ?? 'never' }}</span>
</template>

<style scoped>
.time {
  white-space: nowrap;
}
</style>
