<script setup lang="ts">
// Roles, the connection with its check, and what Dravo may do in the application.
import type { Schemas } from '../api/client'
import ConnectionPanel from './ConnectionPanel.vue'
import DeliverySettings from './DeliverySettings.vue'
import PlansPanel from './PlansPanel.vue'
import RolesPanel from './RolesPanel.vue'

defineProps<{ application: Schemas['Application'] }>()
</script>

<template>
  <RolesPanel :application="application" />
  <PlansPanel class="part" :application="application" />
  <template v-if="!application.tracked_only">
    <ConnectionPanel class="part" :application="application" />
    <DeliverySettings class="part" :application="application" />
  </template>
</template>

<style scoped>
.part {
  border-top: 1px solid rgb(var(--v-theme-line));
  margin-top: 20px;
  padding-top: 16px;
}
</style>
