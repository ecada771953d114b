<script setup lang="ts">
// A page for users who are not signed in: a narrow panel in the middle.
defineProps<{ title: string }>()
</script>

<template>
  <div class="middle">
    <div class="panel">
      <h1>{{ title }}</h1>
      <slot />
    </div>
  </div>
</template>

<style scoped>
.middle {
  min-height: 100vh;
  display: grid;
  grid-template-columns: minmax(0, 440px);
  place-content: center;
  padding: 20px;
}
.panel {
  padding: 28px;
}
h1 {
  font-size: 24px;
  margin: 0 0 12px;
}
</style>
