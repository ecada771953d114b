<script setup lang="ts">
// Erases a user who has left, after a preview and the typed name.
import { answered, api } from '../../api/client'
import { useConfirmation } from '../../app/confirmation'
import EffectsList from '../../components/EffectsList.vue'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ user: { id: string; display_name: string } }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const params = { path: { user: props.user.id } }
const { typed, wrong, busy, attempt, effects } = useConfirmation(
  open,
  () => ['users', props.user.id, 'erase'],
  () => answered(api.POST('/api/v1/users/{user}/erase/preview', { params })),
)
async function erase(): Promise<void> {
  const body = { confirm: typed.value }
  if (await attempt(() => answered(api.POST('/api/v1/users/{user}/erase', { params, body })))) {
    open.value = false
    emit('done')
  }
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="`Erase ${user.display_name}?`"
    act="Erase"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="effects.isFetching.value || effects.isError.value"
    serious
    @done="erase"
  >
    <EffectsList v-if="effects.data.value" :effects="effects.data.value" />
    <v-text-field v-model="typed" :label="`Type ${user.display_name} to confirm`" autocomplete="off" />
  </FormDialog>
</template>
