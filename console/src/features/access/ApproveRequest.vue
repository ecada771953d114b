<script setup lang="ts">
// Approves an access request: which role, until when, after a preview.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useItemDialog } from '../../app/editing'
import PreviewDialog from '../../components/PreviewDialog.vue'

// The request that is approved.
const request = defineModel<Schemas['AccessRequestLine'] | null>({ required: true })
const open = useItemDialog(request)
const role = ref<string | null>(null)
const until = ref('')
const answer = ref('')
const title = ref('')
watch(request, (now) => {
  if (!now) return
  title.value = `Approve request of ${now.user.display_name}`
  role.value = now.role?.key ?? null
  until.value = answer.value = ''
})
const application = useQuery({
  queryKey: computed(() => ['applications', request.value?.application.key]),
  enabled: open,
  queryFn: () => {
    const path = { key: request.value!.application.key }
    return answered(api.GET('/api/v1/applications/{key}', { params: { path } }))
  },
})
const roles = computed(
  () => application.data.value?.roles.map((each) => ({ title: each.label, value: each.key })) ?? [],
)
const params = computed(() => ({ path: { id: request.value?.id ?? '' } }))
const body = computed(() => ({ role: role.value, until: until.value || null, answer: '' }))
const look = () =>
  answered(
    api.POST('/api/v1/access/requests/{id}/approve/preview', { params: params.value, body: body.value }),
  )
const approve = (said: Confirmation) =>
  answered(
    api.POST('/api/v1/access/requests/{id}/approve', {
      params: params.value,
      body: { ...body.value, answer: answer.value, ...said },
    }),
  )
</script>

<template>
  <PreviewDialog
    v-model="open"
    :title="title"
    act="Approve"
    :about="request && role ? body : null"
    :look="look"
    :carry-out="approve"
  >
    <p class="quiet reason">{{ request?.reason }}</p>
    <v-select v-model="role" :items="roles" :label="`Role in ${request?.application.label ?? ''}`" />
    <v-text-field v-model="until" type="date" label="End date (included)" />
    <v-textarea v-model="answer" label="Answer for the user (optional)" rows="2" auto-grow max-rows="6" />
  </PreviewDialog>
</template>

<style scoped>
.reason {
  white-space: pre-line;
}
</style>
