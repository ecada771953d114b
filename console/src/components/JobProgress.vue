<script setup lang="ts">
// The progress of a job that takes long, with a button to cancel it.
import { onUnmounted, ref } from 'vue'
import { api } from '../api/client'
import { underWay, type Work } from '../app/jobs'

const LONG_MS = 1_200
const shown = ref<Work | null>(null)
const far = ref({ done: 0, total: 0 })
const timer = setInterval(() => void look(), 600)
onUnmounted(() => clearInterval(timer))

async function look(): Promise<void> {
  const newest = [...underWay].reverse().find((each) => Date.now() - each.since > LONG_MS)
  if (!newest) {
    shown.value = null
    return
  }
  const { data } = await api.GET('/api/v1/jobs/{id}', { params: { path: { id: newest.name } } })
  if (!data?.total) return
  shown.value = newest
  far.value = data
}
const stop = (work: Work) => api.DELETE('/api/v1/jobs/{id}', { params: { path: { id: work.name } } })
</script>

<template>
  <div v-if="shown" class="row" role="status">
    <v-progress-linear
      :model-value="(100 * far.done) / far.total"
      color="primary"
      class="grow"
      :aria-label="`${far.done} of ${far.total} users processed`"
    />
    <span>{{ far.done.toLocaleString('en') }} of {{ far.total.toLocaleString('en') }} users processed</span>
    <v-btn size="small" variant="outlined" @click="stop(shown)">Stop</v-btn>
  </div>
</template>
