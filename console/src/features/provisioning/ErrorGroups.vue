<script setup lang="ts">
// Failed tasks grouped by error, to retry together.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ application?: string }>()
const queries = useQueryClient()
const wrong = ref<unknown>(null)
const kinds = useQuery({
  queryKey: computed(() => ['tasks', 'kinds', props.application]),
  queryFn: () =>
    answered(
      api.GET('/api/v1/provisioning/errors', { params: { query: { application: props.application } } }),
    ),
  refetchInterval: 3000,
})
async function again(application: string, kind: string): Promise<void> {
  wrong.value = null
  try {
    await answered(api.POST('/api/v1/provisioning/tasks/retry', { body: { application, kind } }))
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
</script>

<template>
  <div v-if="kinds.data.value?.items.length" class="kinds">
    <ErrorMessage :wrong="wrong" />
    <div
      v-for="each in kinds.data.value.items"
      :key="`${each.application.key} ${each.kind} ${each.status}`"
      class="kind"
    >
      <StatusLabel :status="each.status" />
      <div class="words">
        <b>{{ each.number.toLocaleString('en') }}</b> in
        <router-link :to="`/provisioning/tasks?application=${each.application.key}&status=${each.status}`">{{
          each.application.label
        }}</router-link>: {{ each.message }} <span v-if="each.hint"><b>How to fix:</b> {{ each.hint }}</span>
      </div>
      <v-btn
        v-if="each.kind !== 'unknown'"
        size="small"
        variant="outlined"
        @click="again(each.application.key, each.kind)"
        >{{ each.number === 1 ? 'Retry' : `Retry all ${each.number}` }}</v-btn
      >
    </div>
  </div>
</template>

<style scoped>
.kinds {
  margin-bottom: 12px;
}
.kind {
  display: grid;
  grid-template-columns: 80px 1fr auto;
  gap: 12px;
  align-items: start;
  padding: 7px 0;
  border-bottom: 1px solid rgb(var(--v-theme-line));
}
.words {
  overflow-wrap: anywhere;
}
</style>
