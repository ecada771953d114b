<script setup lang="ts">
// Deletes an application without assignments, after its effects and the typed label.
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import { useConfirmation } from '../../app/confirmation'
import EffectsList from '../../components/EffectsList.vue'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const router = useRouter()
const path = { key: props.application.key }
const { typed, wrong, busy, attempt, effects } = useConfirmation(
  open,
  () => ['applications', props.application.key, 'removal'],
  () => answered(api.GET('/api/v1/applications/{key}/removal', { params: { path } })),
)
async function remove(): Promise<void> {
  const params = { path, query: { confirm: typed.value } }
  if (!(await attempt(() => answered(api.DELETE('/api/v1/applications/{key}', { params }))))) return
  open.value = false
  await router.push({ path: '/applications' })
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="`Delete ${application.label}?`"
    act="Delete"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="effects.isFetching.value || effects.isError.value"
    serious
    @done="remove"
  >
    <EffectsList v-if="effects.data.value" :effects="effects.data.value" />
    <v-text-field v-model="typed" :label="`Type ${application.label} to confirm`" autocomplete="off" />
  </FormDialog>
</template>
