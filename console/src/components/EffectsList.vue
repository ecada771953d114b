<script setup lang="ts">
// The effects of a change in sentences, and whose access changes.
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import ChangePreview from './ChangePreview.vue'

const props = defineProps<{ effects: Schemas['ChangeEffects'] }>()
// The typed name that confirms a serious change.
const confirm = defineModel<string>('confirm', { default: '' })
/** Shown where anybody's access changes; the sentences say the rest. */
const access = computed(() => {
  const found = props.effects.access
  return found && (found.users.length || found.confirm) ? found : null
})
</script>

<template>
  <ul v-if="effects.effects.length" class="effects">
    <li v-for="each in effects.effects" :key="each">{{ each }}</li>
  </ul>
  <ChangePreview v-if="access" v-model:confirm="confirm" :preview="access" />
</template>

<style scoped>
.effects {
  margin: 0 0 12px;
  padding-left: 20px;
}
</style>
