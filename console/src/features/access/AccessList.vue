<script setup lang="ts">
// The access list with reasons: current access, or access that ended.
import { mdiMagnify } from '@mdi/js'
import { computed } from 'vue'
import { useApplicationChoices } from '../../app/choices'
import { useAddressFilter, useWords } from '../../app/addressFilters'
import AccessTable from './AccessTable.vue'

const { typed, words } = useWords()
const application = useAddressFilter('application')
const ended = useAddressFilter('ended')
const choices = useApplicationChoices()
const about = computed(() => ({
  q: words.value,
  application: application.value,
  ended: ended.value === 'yes',
}))
</script>

<template>
  <div class="row filters">
    <v-text-field v-model="typed" :prepend-inner-icon="mdiMagnify" label="User" clearable class="words" />
    <v-select v-model="application" :items="choices" label="Application" clearable class="narrow" />
    <v-checkbox v-model="ended" label="ended" true-value="yes" :false-value="undefined" />
  </div>
  <AccessTable :about="about" />
</template>
