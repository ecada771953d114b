<script setup lang="ts">
// The icon of an application, or the first letter of its label.
import { computed } from 'vue'

const props = defineProps<{
  application: { key: string; label: string; icon: string | null }
  /** Whether a signed-in user, and not an operator, looks at it. */
  own?: boolean
  size?: number
}>()
const edge = computed(() => `${props.size ?? 22}px`)
const address = computed(() => {
  const { key, icon } = props.application
  const path = `${props.own ? '/me' : ''}/applications/${encodeURIComponent(key)}/icon`
  return icon ? `/api/v1${path}?version=${icon}` : null
})
</script>

<template>
  <img v-if="address" :src="address" alt="" class="icon" />
  <span v-else class="icon letter" aria-hidden="true">{{ application.label.slice(0, 1).toUpperCase() }}</span>
</template>

<style scoped>
.icon {
  border-radius: 4px;
  display: inline-block;
  flex: none;
  height: v-bind(edge);
  object-fit: contain;
  vertical-align: middle;
  width: v-bind(edge);
}
.letter {
  background: rgb(var(--v-theme-primary));
  color: rgb(var(--v-theme-on-primary));
  font-size: calc(v-bind(edge) * 0.6);
  font-weight: 700;
  line-height: v-bind(edge);
  text-align: center;
}
</style>
