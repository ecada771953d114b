<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import TaskTable from './TaskTable.vue'
import HoldNotice from './HoldNotice.vue'
import ErrorGroups from './ErrorGroups.vue'
import { useApplicationChoices } from '../../app/choices'
import { useAddressFilter, useWords } from '../../app/addressFilters'

const { typed, words } = useWords()
const state = useAddressFilter('state')
const application = useAddressFilter('application')
const choices = useApplicationChoices()
const about = computed(() => ({
  q: words.value,
  state: state.value as 'open' | undefined,
  application: application.value,
}))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Provisioning</h1>
        <p class="lead">The work of bringing accounts to what is due, and what the applications said to it.</p>
      </div>
    </div>
    <div class="panel">
      <div class="row filters">
        <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="Person" clearable class="words" />
        <v-select
          v-model="state"
          label="State"
          clearable
          class="narrow"
          :items="['open', 'waiting', 'failed', 'held', 'done', 'dropped']"
        />
        <v-select v-model="application" :items="choices" label="Application" clearable class="narrow" />
      </div>
      <HoldNotice :application="application" />
      <ErrorGroups :application="application" />
      <TaskTable :about="about" />
    </div>
  </div>
</template>
