<script setup lang="ts">
// A value with a button to copy it.
import { mdiCheck, mdiContentCopy } from '@mdi/js'
import { ref } from 'vue'

const props = defineProps<{ value: string; name: string }>()
const copied = ref(false)

async function copy(): Promise<void> {
  await navigator.clipboard.writeText(props.value)
  copied.value = true
  setTimeout(() => (copied.value = false), 2000)
}
</script>

<template>
  <span class="copy">
    <code class="mono">{{ value }}</code>
    <v-btn
      :icon="copied ? mdiCheck : mdiContentCopy"
      size="x-small"
      class="small-icon"
      variant="text"
      :aria-label="copied ? `${name} copied` : `Copy ${name}`"
      @click="copy"
    />
  </span>
</template>

<style scoped>
.copy {
  display: inline-flex;
  align-items: center;
  gap: 4px;
}
.small-icon {
  min-width: 28px;
  min-height: 28px;
}
.small-icon :deep(.v-icon) {
  font-size: 18px;
  width: 18px;
  height: 18px;
}
</style>
