<script setup lang="ts">
// The cells with which every row of an assignment ends: when it counts, who made it, and taking it away.
import type { Schemas } from '../api/client'
import { what, whom } from '../app/assignments'
import SpanOf from './SpanOf.vue'
import TimeOf from './TimeOf.vue'

defineProps<{ of: Schemas['Assignment'] }>()
const emit = defineEmits<{ away: [] }>()
</script>

<template>
  <td><SpanOf :of="of" /></td>
  <td>{{ of.created_by }}<br /><TimeOf :at="of.created_at" /></td>
  <td>
    <v-btn size="small" variant="outlined" :aria-label="`Take away: ${whom(of)}, ${what(of)}`" @click="emit('away')">
      Take away
    </v-btn>
  </td>
</template>
