<script setup lang="ts">
// A secret, shown only once.
import CopyValue from './CopyValue.vue'

defineProps<{ secret: string; name: string }>()
</script>

<template>
  <div class="secret" role="status">
    <strong>{{ name }} (shown only once)</strong>
    <div><CopyValue :value="secret" :name="name" /></div>
    <span class="quiet">Copy it now. Dravo stores only a hash.</span>
  </div>
</template>

<style scoped>
.secret {
  padding: 12px 14px;
  margin: 10px 0;
  border: 1px dashed rgb(var(--v-theme-look));
  border-radius: 6px;
}
</style>
