<script setup lang="ts">
// How many seats of a plan are taken, and whether they run short; each number leads to the people.
import type { Schemas } from '../../api/client'
import StatusLabel from '../../components/StatusLabel.vue'

defineProps<{ plan: Schemas['Plan']; application: string }>()
</script>

<template>
  <router-link :to="`/applications/${application}/seats?plan=${plan.key}`"
    >{{ plan.taken.toLocaleString('en') }} taken</router-link
  >
  <template v-if="plan.seats !== null"> of {{ plan.seats.toLocaleString('en') }}</template>
  <template v-if="plan.waiting">
    ·
    <router-link :to="`/applications/${application}/seats?plan=${plan.key}&who=waiting`"
      >{{ plan.waiting.toLocaleString('en') }} waiting</router-link
    ></template
  >
  <template v-if="plan.state === 'full'">&nbsp; <StatusLabel state="full" /></template>
  <template v-else-if="plan.state === 'short'">&nbsp; <StatusLabel state="running short" /></template>
</template>
