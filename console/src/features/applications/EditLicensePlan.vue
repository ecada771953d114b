<script setup lang="ts">
// Changes a license plan of an application, after a preview; its key stays.
import { computed, reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useEffects, useItemDialog } from '../../app/editing'
import EffectsList from '../../components/EffectsList.vue'
import FormDialog from '../../components/FormDialog.vue'
import SentValueFields from './SentValueFields.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
// The plan that is edited.
const plan = defineModel<Schemas['Plan'] | null>({ required: true })
const open = useItemDialog(plan)
// Stays while the dialog closes.
const shown = ref('')
const fields = reactive({ label: '', rank: '10', seats: '', sent_value: '', description: '' })
watch(plan, (now) => {
  if (!now) return
  shown.value = now.label
  fields.label = now.label
  fields.rank = String(now.rank)
  fields.seats = now.seats === null ? '' : String(now.seats)
  fields.sent_value = now.sent_value ?? ''
  fields.description = now.description ?? ''
})
const params = computed(() => ({ path: { key: props.application.key, plan: plan.value?.key ?? '' } }))
const wish = computed(() => ({ ...fields, rank: Number(fields.rank), seats: Number(fields.seats) || 0 }))
const { wrong, busy, attempt, effects, looking } = useEffects(
  open,
  wish,
  () => params.value.path,
  (body) =>
    answered(
      api.POST('/api/v1/applications/{key}/license-plans/{plan}/preview', { params: params.value, body }),
    ),
)
async function save(): Promise<void> {
  const request = () =>
    answered(
      api.PATCH('/api/v1/applications/{key}/license-plans/{plan}', {
        params: params.value,
        body: wish.value,
      }),
    )
  if (await attempt(request)) plan.value = null
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="`Edit plan ${shown}`"
    act="Save"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="looking"
    wide
    @done="save"
  >
    <v-text-field v-model="fields.label" label="Plan name" autocomplete="off" />
    <v-text-field
      v-model="fields.rank"
      label="Rank"
      type="number"
      hint="A user who could have several plans gets the plan with the highest rank."
      persistent-hint
    />
    <v-text-field
      v-model="fields.seats"
      label="Seats (empty: unlimited)"
      type="number"
      min="0"
      hint="Additional seats go to the waiting list in order. With fewer seats, users keep theirs."
      persistent-hint
    />
    <SentValueFields
      v-model:sent-value="fields.sent_value"
      v-model:description="fields.description"
      :of="plan?.key"
      describes="What the plan includes"
    />
    <EffectsList v-if="effects.data.value" :effects="effects.data.value" />
  </FormDialog>
</template>
