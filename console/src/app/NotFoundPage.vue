<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
</script>

<template>
  <div class="page">
    <h1>Not found</h1>
    <EmptyState title="There is no such page.">
      The address may be old or cut. The stages at the top lead everywhere.
    </EmptyState>
  </div>
</template>
