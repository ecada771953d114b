<script setup lang="ts">
// The period of an assignment, as days if days were entered.
import type { Schemas } from '../api/client'
import TimeLabel from './TimeLabel.vue'

defineProps<{ of: Schemas['Assignment'] }>()
</script>

<template>
  <template v-if="of.from || of.until">
    <div v-if="of.from">
      from <template v-if="of.from_day">{{ of.from_day }}</template><TimeLabel v-else :at="of.from" />
    </div>
    <div v-if="of.until">
      until <template v-if="of.until_day">{{ of.until_day }}</template><TimeLabel v-else :at="of.until" />
    </div>
  </template>
  <span v-else class="quiet">always</span>
</template>
