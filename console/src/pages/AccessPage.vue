<script setup lang="ts">
import { useRoute } from 'vue-router'
import { computed } from 'vue'
import AccessList from '../components/AccessList.vue'
import ExpectedAccess from '../components/ExpectedAccess.vue'
import ComparedPeople from '../components/ComparedPeople.vue'
import MatrixOfGroups from '../components/MatrixOfGroups.vue'
import MatrixTable from '../components/MatrixTable.vue'
import MovesTable from '../components/MovesTable.vue'
import ReviewList from '../components/ReviewList.vue'

const route = useRoute()
const shown = computed(() => String(route.params.tab || 'matrix'))
const tabs = [
  ['matrix', 'Matrix'],
  ['groups', 'Groups'],
  ['list', 'Each access, and why'],
  ['changes', 'Compare two days'],
  ['people', 'Compare two people'],
  ['expected', 'What would somebody get?'],
  ['reviews', 'Reviews'],
]
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Access</h1>
        <p class="lead">Who has which role in which application, now or on any past day, and because of what.</p>
      </div>
    </div>
    <v-tabs :model-value="shown" class="tabs">
      <v-tab v-for="[key, title] in tabs" :key="key" :value="key" :to="`/access/${key}`">{{ title }}</v-tab>
    </v-tabs>
    <div class="panel">
      <MatrixTable v-if="shown === 'matrix'" />
      <MatrixOfGroups v-else-if="shown === 'groups'" />
      <ComparedPeople v-else-if="shown === 'people'" />
      <MovesTable v-else-if="shown === 'changes'" />
      <ExpectedAccess v-else-if="shown === 'expected'" />
      <ReviewList v-else-if="shown === 'reviews'" />
      <AccessList v-else />
    </div>
  </div>
</template>

<style scoped>
.tabs {
  margin-bottom: 12px;
}
</style>
