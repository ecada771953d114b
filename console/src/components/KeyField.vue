<script setup lang="ts">
// The key of something new. If it is empty, the key is made from the label.
import { keyOf } from '../app/keys'

defineProps<{ label: string; hint: string }>()
const key = defineModel<string>({ required: true })
</script>

<template>
  <v-text-field
    v-model="key"
    label="Key"
    :placeholder="keyOf(label)"
    persistent-placeholder
    persistent-hint
    :hint="hint"
  />
</template>
