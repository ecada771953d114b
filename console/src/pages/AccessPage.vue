<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import AccessTable from '../components/AccessTable.vue'
import { useApplicationChoices } from '../app/choices'
import { useAddressFilter, useWords } from '../app/search'

const { typed, words } = useWords()
const application = useAddressFilter('application')
const ended = useAddressFilter('ended')
const choices = useApplicationChoices()
const about = computed(() => ({ q: words.value, application: application.value, ended: ended.value === 'yes' }))
</script>

<template>
  <div class="page">
    <div class="head">
      <div class="grow">
        <h1>Access</h1>
        <p class="lead">Who has which role in which application, since when, and because of what.</p>
      </div>
    </div>
    <div class="panel">
      <div class="row filters">
        <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="Person" clearable class="words" />
        <v-select v-model="application" :items="choices" label="Application" clearable class="narrow" />
        <v-checkbox v-model="ended" label="ended" true-value="yes" :false-value="undefined" />
      </div>
      <AccessTable :about="about" />
    </div>
  </div>
</template>
