<script setup lang="ts">
// Some groups of a source: all, none, those with a name or an ID, or those that match a pattern.
import { computed } from 'vue'

export interface Chosen {
  which: string
  names: string[]
  pattern: string
}
const props = defineProps<{ label: string; all: string; none?: string; named: string; pattern: string }>()
const chosen = defineModel<Chosen>({ required: true })
const choices = computed(() => [
  { title: props.all, value: 'all' },
  ...(props.none ? [{ title: props.none, value: 'none' }] : []),
  { title: props.named, value: 'named' },
  { title: props.pattern, value: 'pattern' },
])
const names = computed({
  get: () => chosen.value.names.join('\n'),
  set: (text) => (chosen.value = { ...chosen.value, names: text.split('\n') }),
})
</script>

<template>
  <v-select v-model="chosen.which" :items="choices" :label="label" class="wide" />
  <v-textarea
    v-if="chosen.which === 'named'"
    v-model="names"
    label="Names or IDs, one per line"
    rows="2"
    auto-grow
    class="wide"
  />
  <v-text-field
    v-if="chosen.which === 'pattern'"
    v-model="chosen.pattern"
    label="Pattern (RE2)"
    class="wide mono"
    spellcheck="false"
  />
</template>

<style scoped>
.wide {
  max-width: 640px;
  margin-bottom: 14px;
}
</style>
