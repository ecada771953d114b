<script setup lang="ts">
/** A button whose work takes a while: it says so to everyone, also to those who hear the page. */
defineProps<{ busy: boolean }>()
</script>

<template>
  <v-btn :loading="busy">
    <slot />
    <template #loader>
      <v-progress-circular indeterminate size="22" width="2" aria-label="Working" />
    </template>
  </v-btn>
</template>
