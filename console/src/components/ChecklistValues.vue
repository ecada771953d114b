<script setup lang="ts">
// Values for the other system, each with the names it has there; more rows go into the slot.
import type { Schemas } from '../api/client'
import CopyValue from './CopyValue.vue'

defineProps<{ values: Schemas['ChecklistValue'][]; warnings?: string[] }>()
</script>

<template>
  <p v-for="each in warnings" :key="each" role="note" class="warning">{{ each }}</p>
  <dl>
    <template v-for="line in values" :key="line.name">
      <dt>{{ line.name }}</dt>
      <dd>
        <CopyValue :value="line.value" :name="line.name" />
        <div class="quiet">{{ line.note }}</div>
      </dd>
    </template>
    <slot />
  </dl>
</template>

<style scoped>
.warning {
  border-left: 4px solid rgb(var(--v-theme-look));
  margin: 0 0 12px;
  padding-left: 12px;
}
dl {
  display: grid;
  grid-template-columns: 130px 1fr;
  gap: 10px 14px;
  margin: 0;
}
dl :deep(dt),
dt {
  font-weight: 700;
  padding-top: 3px;
}
dl :deep(dd),
dd {
  margin: 0;
  min-width: 0;
  overflow-wrap: anywhere;
}
dl :deep(.quiet) {
  font-size: 13px;
}
</style>
