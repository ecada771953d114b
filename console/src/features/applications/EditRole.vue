<script setup lang="ts">
// Changes a role of an application, after a preview; its key stays.
import { computed, reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { confirmationOf } from '../../app/assignments'
import { useEffects, useItemDialog } from '../../app/editing'
import EffectsList from '../../components/EffectsList.vue'
import FormDialog from '../../components/FormDialog.vue'
import SentValueFields from './SentValueFields.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
// The role that is edited.
const role = defineModel<Schemas['Role'] | null>({ required: true })
const open = useItemDialog(role)
// Stays while the dialog closes.
const shown = ref('')
const fields = reactive({ label: '', rank: '10', sent_value: '', description: '' })
watch(role, (now) => {
  if (!now) return
  shown.value = now.label
  fields.label = now.label
  fields.rank = String(now.rank)
  fields.sent_value = now.sent_value ?? ''
  fields.description = now.description ?? ''
})
const params = computed(() => ({ path: { key: props.application.key, role: role.value?.key ?? '' } }))
const wish = computed(() => ({ ...fields, rank: Number(fields.rank) }))
const { typed, wrong, busy, attempt, effects, looking } = useEffects(
  open,
  wish,
  () => params.value.path,
  (body) =>
    answered(api.POST('/api/v1/applications/{key}/roles/{role}/preview', { params: params.value, body })),
)
async function save(): Promise<void> {
  const body = { ...wish.value, ...confirmationOf(effects.data.value?.access ?? undefined, typed.value) }
  const request = () =>
    answered(api.PATCH('/api/v1/applications/{key}/roles/{role}', { params: params.value, body }))
  if (await attempt(request)) role.value = null
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="`Edit role ${shown}`"
    act="Save"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="looking"
    wide
    @done="save"
  >
    <v-text-field v-model="fields.label" label="Role name" autocomplete="off" />
    <v-text-field
      v-model="fields.rank"
      label="Rank"
      type="number"
      hint="The role with the highest rank is the highest role."
      persistent-hint
    />
    <SentValueFields
      v-model:sent-value="fields.sent_value"
      v-model:description="fields.description"
      :of="role?.key"
      describes="What the role permits"
    />
    <EffectsList v-if="effects.data.value" v-model:confirm="typed" :effects="effects.data.value" />
  </FormDialog>
</template>
