<script setup lang="ts">
import EmptyState from '../components/EmptyState.vue'
</script>

<template>
  <div class="page">
    <h1>Page not found</h1>
    <EmptyState title="This page does not exist">
      The address may be out of date. Choose a section at the top.
    </EmptyState>
  </div>
</template>
