<script setup lang="ts">
// An empty list: what it is for, and what to do first.
defineProps<{ title: string }>()
</script>

<template>
  <div class="empty">
    <strong>{{ title }}</strong>
    <p><slot /></p>
    <slot name="act" />
  </div>
</template>

<style scoped>
.empty {
  padding: 28px 8px;
  max-width: 62ch;
}
.empty p {
  margin: 4px 0 14px;
  color: rgb(var(--v-theme-rest));
}
</style>
