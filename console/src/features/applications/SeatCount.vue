<script setup lang="ts">
// The seats of a license plan: taken, free and waiting, with links to the users.
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
  <template v-if="plan.status === 'full'">&nbsp; <StatusLabel status="full" /></template>
  <template v-else-if="plan.status === 'short'">&nbsp; <StatusLabel status="running short" /></template>
</template>
