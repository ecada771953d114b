<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import TaskTable from './TaskTable.vue'
import HoldNotice from './HoldNotice.vue'
import ErrorGroups from './ErrorGroups.vue'
import { useApplicationChoices } from '../../app/choices'
import { useAddressFilter, useWords } from '../../app/addressFilters'

const { typed, words } = useWords()
const status = useAddressFilter('status')
const application = useAddressFilter('application')
const choices = useApplicationChoices()
const about = computed(() => ({
  q: words.value,
  status: status.value as 'open' | undefined,
  application: application.value,
}))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Provisioning</h1>
        <p class="lead">
          The tasks that create, update and remove accounts in applications, and how the applications
          responded.
        </p>
      </div>
    </div>
    <div class="panel">
      <div class="row filters">
        <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="User" clearable class="words" />
        <v-select
          v-model="status"
          label="Status"
          clearable
          class="narrow"
          :items="['open', 'waiting', 'approval', 'manual', 'failed', 'held', 'done', 'discarded']"
        />
        <v-select v-model="application" :items="choices" label="Application" clearable class="narrow" />
      </div>
      <HoldNotice :application="application" />
      <ErrorGroups :application="application" />
      <TaskTable :about="about" />
    </div>
  </div>
</template>
