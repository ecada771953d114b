<script setup lang="ts">
// An email as it would be sent.
defineProps<{ email: { subject: string; text: string } }>()
</script>

<template>
  <section aria-label="Sample email" class="sample">
    <strong>{{ email.subject }}</strong>
    <pre>{{ email.text }}</pre>
  </section>
</template>

<style scoped>
.sample {
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  border-radius: 6px;
  padding: 10px 14px;
  margin-bottom: 12px;
}
pre {
  font: inherit;
  margin: 8px 0 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
