<script setup lang="ts">
// The settings of an application: roles, connection and provisioning.
import type { Schemas } from '../../api/client'
import ConnectionPanel from './ConnectionPanel.vue'
import ProvisioningSettings from './ProvisioningSettings.vue'
import ProvisioningStatus from './ProvisioningStatus.vue'
import LicensePlansPanel from './LicensePlansPanel.vue'
import RolesPanel from './RolesPanel.vue'
import TrackingPanel from './TrackingPanel.vue'

defineProps<{ application: Schemas['Application'] }>()
</script>

<template>
  <RolesPanel :application="application" />
  <LicensePlansPanel class="part" :application="application" />
  <TrackingPanel class="part" :application="application" />
  <template v-if="!application.tracked_only">
    <ConnectionPanel class="part" :application="application" />
    <ProvisioningStatus class="part" :application="application" />
    <ProvisioningSettings class="part" :application="application" />
  </template>
</template>

<style scoped>
.part {
  border-top: 1px solid rgb(var(--v-theme-line));
  margin-top: 20px;
  padding-top: 16px;
}
</style>
