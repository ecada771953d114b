<script setup lang="ts">
// Confirms users who match a rule for the highest role.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ assignment: Schemas['Assignment'] | null }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const chosen = ref<string[]>([])
watch(open, () => (chosen.value = []))
const params = computed(() => ({ path: { id: props.assignment?.id ?? '' } }))
const waiting = useQuery({
  queryKey: computed(() => ['assignments', props.assignment?.id, 'waiting']),
  enabled: computed(() => open.value && props.assignment !== null),
  queryFn: () =>
    answered(
      api.GET('/api/v1/assignments/{id}/waiting', {
        params: { path: params.value.path, query: { count: 200 } },
      }),
    ),
})
const body = computed(() => (chosen.value.length ? { users: chosen.value } : null))
const look = () =>
  answered(
    api.POST('/api/v1/assignments/{id}/confirm/preview', {
      params: params.value,
      body: { users: chosen.value },
    }),
  )
const confirm = (said: Confirmation) =>
  answered(
    api.POST('/api/v1/assignments/{id}/confirm', {
      params: params.value,
      body: { users: chosen.value, ...said },
    }),
  )
const everyone = computed(() => waiting.data.value?.items ?? [])
</script>

<template>
  <PreviewDialog
    v-model="open"
    title="Confirm users for the highest role"
    act="Confirm users"
    :about="body"
    :look="look"
    :carry-out="confirm"
    @done="emit('done')"
  >
    <p class="quiet">
      These users matched the rule <code class="mono">{{ assignment?.rule }}</code> after it was created. A
      rule assigns the highest role to new users only after your confirmation.
    </p>
    <div class="scroll list" role="group" aria-label="Users waiting for confirmation" tabindex="0">
      <v-checkbox
        v-for="each in everyone"
        :key="each.id"
        v-model="chosen"
        :value="each.id"
        :label="`${each.display_name} (${each.user_name})`"
        hide-details
        density="compact"
      />
    </div>
    <p v-if="(waiting.data.value?.total ?? 0) > everyone.length" class="quiet">
      Shows the first {{ everyone.length }} of {{ waiting.data.value?.total.toLocaleString('en') }} users.
    </p>
    <v-btn variant="text" :disabled="!everyone.length" @click="chosen = everyone.map((each) => each.id)"
      >Select all shown</v-btn
    >
  </PreviewDialog>
</template>

<style scoped>
.list {
  max-height: 240px;
  overflow-y: auto;
}
</style>
