<script setup lang="ts">
// Some groups of a source: all, none, those with a name or an ID, or those that match a pattern.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../../api/client'
import { usePaused } from '../../app/debounce'

export interface Chosen {
  which: string
  names: string[]
  pattern: string
}
const props = defineProps<{
  source: string
  label: string
  all: string
  none?: string
  named: string
  pattern: string
}>()
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
/** The choice, once typing pauses; null where no group needs to be looked up. */
const settled = usePaused(() => {
  const { which, pattern } = chosen.value
  const listed = chosen.value.names.filter((each) => each.trim())
  const given = (which === 'named' && listed.length) || (which === 'pattern' && pattern.trim())
  return given ? { which, names: listed, pattern } : null
}, 400)
const matches = useQuery({
  queryKey: computed(() => ['sources', props.source, 'group-matches', settled.value]),
  enabled: computed(() => settled.value !== null),
  retry: false,
  queryFn: () => {
    const body = settled.value ?? { which: 'all', names: [], pattern: '' }
    return answered(
      api.POST('/api/v1/sources/{key}/group-matches', { params: { path: { key: props.source } }, body }),
    )
  },
})
const found = computed(() => (settled.value ? matches.data.value : undefined))
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
    :error-messages="settled ? (matches.error.value?.message ?? []) : []"
  />
  <div v-if="found" class="matches quiet" role="status" :aria-label="`${label}: matches`">
    {{ found.matching.toLocaleString('en') }} of {{ found.total.toLocaleString('en') }} groups match
    now<template v-if="found.groups.length"
      >:
      {{
        found.groups
          .slice(0, 8)
          .map((each) => each.name)
          .join(', ')
      }}<template v-if="found.matching > 8">
        and {{ (found.matching - 8).toLocaleString('en') }} more</template
      ></template
    >.
    <div v-if="found.unknown.length">Not known yet: {{ found.unknown.join(', ') }}.</div>
  </div>
</template>

<style scoped>
.matches {
  margin: -8px 0 14px;
  max-width: 640px;
}
.wide {
  max-width: 640px;
  margin-bottom: 14px;
}
</style>
