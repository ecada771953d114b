<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import DeliveryTable from '../components/DeliveryTable.vue'
import GuardNote from '../components/GuardNote.vue'
import TroubleKinds from '../components/TroubleKinds.vue'
import { useApplicationChoices } from '../app/choices'
import { useAddressFilter, useWords } from '../app/search'

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
        <h1>Deliveries</h1>
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
      <GuardNote :application="application" />
      <TroubleKinds :application="application" />
      <DeliveryTable :about="about" />
    </div>
  </div>
</template>
