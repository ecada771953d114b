<script setup lang="ts">
// What a role or a license plan is sent as, and its description.
defineProps<{ of?: string; describes: string }>()
const sentValue = defineModel<string>('sentValue', { required: true })
const description = defineModel<string>('description', { required: true })
</script>

<template>
  <v-text-field
    v-model="sentValue"
    class="mono"
    label="Value sent to the application"
    :hint="`Such as a URN or an ID. Empty: the key, ${of ?? ''}.`"
    persistent-hint
    autocomplete="off"
  />
  <v-textarea v-model="description" :label="describes" rows="2" auto-grow max-rows="6" />
</template>
