<script setup lang="ts" generic="Item extends { id?: unknown; key?: string }">
// A table in pages.
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import ErrorMessage from './ErrorMessage.vue'

interface Page {
  items: Item[]
  total: number
  /** Whether the total is the number of all rows; true by default. */
  whole?: boolean
  next?: string | null
}
const props = withDefaults(
  defineProps<{
    name: string
    caption: string
    columns: string[]
    fetch: (after: string | undefined, count: number) => Promise<Page>
    about?: unknown
    count?: number
    refresh?: number
  }>(),
  { about: undefined, count: 50, refresh: 0 },
)
defineSlots<{ row(scope: { item: Item }): unknown; empty(): unknown }>()

const trail = ref<(string | undefined)[]>([undefined])
const after = computed(() => trail.value[trail.value.length - 1])
watch(
  () => JSON.stringify(props.about),
  () => (trail.value = [undefined]),
)
const { data, error, isPending } = useQuery<Page>({
  queryKey: computed(() => [props.name, 'list', props.about, after.value]),
  queryFn: () => props.fetch(after.value, props.count),
  placeholderData: keepPreviousData,
  refetchInterval: () => props.refresh || false,
})
const first = computed(() => (trail.value.length - 1) * props.count + 1)
</script>

<template>
  <ErrorMessage :wrong="error" />
  <div v-if="data && data.items.length" class="scroll" role="group" aria-label="Table" tabindex="0">
    <table class="plain">
      <caption class="visually-hidden">
        {{
          caption
        }}
      </caption>
      <thead>
        <tr>
          <th v-for="column in columns" :key="column" scope="col">
            <template v-if="column">{{ column }}</template>
            <span v-else class="visually-hidden">Actions</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="item in data.items" :key="String(item.id ?? item.key)">
          <slot name="row" :item="item" />
        </tr>
      </tbody>
    </table>
  </div>
  <slot v-else-if="data" name="empty" />
  <p v-else-if="isPending" class="quiet">Loading …</p>
  <div v-if="data && (data.total > data.items.length || trail.length > 1)" class="row pages">
    <span class="quiet">
      {{ first.toLocaleString('en') }} to {{ (first + data.items.length - 1).toLocaleString('en') }} of
      <template v-if="data.whole === false">more than </template>{{ data.total.toLocaleString('en') }}
    </span>
    <v-btn size="small" variant="outlined" :disabled="trail.length === 1" @click="trail = trail.slice(0, -1)"
      >Previous</v-btn
    >
    <v-btn
      size="small"
      variant="outlined"
      :disabled="!data.next"
      @click="trail = [...trail, data.next ?? undefined]"
    >
      Next
    </v-btn>
  </div>
</template>

<style scoped>
.pages {
  padding-top: 12px;
}
</style>
