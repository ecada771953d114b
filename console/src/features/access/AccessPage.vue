<script setup lang="ts">
import { useRoute } from 'vue-router'
import { computed } from 'vue'
import AccessList from './AccessList.vue'
import SimulateAccess from './SimulateAccess.vue'
import CompareUsers from './CompareUsers.vue'
import GroupMatrix from './GroupMatrix.vue'
import AccessMatrix from './AccessMatrix.vue'
import AccessChanges from './AccessChanges.vue'
import RequestList from './RequestList.vue'
import ReviewList from './ReviewList.vue'

const route = useRoute()
const shown = computed(() => String(route.params.tab || 'matrix'))
const tabs = [
  ['matrix', 'Matrix'],
  ['groups', 'Groups'],
  ['list', 'Access list'],
  ['changes', 'Changes'],
  ['users', 'Compare users'],
  ['simulate', 'Simulate access'],
  ['reviews', 'Reviews'],
  ['requests', 'Requests'],
]
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Access</h1>
        <p class="lead">Which user has which role in which application, today or on a past day, and why.</p>
      </div>
    </div>
    <v-tabs :model-value="shown" class="tabs">
      <v-tab v-for="[key, title] in tabs" :key="key" :value="key" :to="`/access/${key}`">{{ title }}</v-tab>
    </v-tabs>
    <div class="panel">
      <AccessMatrix v-if="shown === 'matrix'" />
      <GroupMatrix v-else-if="shown === 'groups'" />
      <CompareUsers v-else-if="shown === 'users'" />
      <AccessChanges v-else-if="shown === 'changes'" />
      <SimulateAccess v-else-if="shown === 'simulate'" />
      <ReviewList v-else-if="shown === 'reviews'" />
      <RequestList v-else-if="shown === 'requests'" />
      <AccessList v-else />
    </div>
  </div>
</template>

<style scoped>
.tabs {
  margin-bottom: 12px;
}
</style>
