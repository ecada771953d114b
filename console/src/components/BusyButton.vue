<script setup lang="ts">
/** A button that shows that its work is in progress, also to screen readers. */
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
