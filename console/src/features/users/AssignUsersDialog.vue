<script setup lang="ts">
// Assigns a role of an application to several users, with a preview.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useApplicationChoices } from '../../app/choices'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ users: { id: string; display_name: string }[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const applications = useApplicationChoices()
const application = ref<string | null>(null)
const role = ref<string | null>(null)
const until = ref('')
const note = ref('')
watch(open, () => {
  application.value = role.value = null
  until.value = note.value = ''
})
const chosen = useQuery({
  queryKey: computed(() => ['applications', application.value]),
  queryFn: () =>
    answered(api.GET('/api/v1/applications/{key}', { params: { path: { key: application.value ?? '' } } })),
  enabled: () => Boolean(application.value),
})
const roles = computed(
  () => chosen.data.value?.roles.map((each) => ({ title: each.label, value: each.key })) ?? [],
)
watch(application, () => (role.value = null))
const named = computed(() =>
  props.users.length === 1 ? (props.users[0]?.display_name ?? '') : `${props.users.length} users`,
)
const wanted = computed(() =>
  application.value && role.value
    ? {
        application: application.value,
        role: role.value,
        users: props.users.map((each) => each.id),
        until: until.value || null,
      }
    : null,
)
const request = () => ({ application: '', users: [], ...wanted.value })
const look = () => answered(api.POST('/api/v1/assignments/users/preview', { body: request() }))
const carryOut = (said: Confirmation) =>
  answered(
    api.POST('/api/v1/assignments/users', { body: { ...request(), note: note.value || null, ...said } }),
  )
</script>

<template>
  <PreviewDialog
    v-model="open"
    :title="`Assign a role to ${named}`"
    act="Assign"
    :about="wanted"
    :look="look"
    :carry-out="carryOut"
    @done="emit('done')"
  >
    <v-autocomplete v-model="application" :items="applications" label="Application" />
    <v-select v-model="role" :items="roles" label="Role" :disabled="!roles.length" />
    <v-text-field v-model="until" type="date" label="End date (included)" persistent-placeholder />
    <v-text-field v-model="note" label="Note" />
  </PreviewDialog>
</template>
