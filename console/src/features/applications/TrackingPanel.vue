<script setup lang="ts">
// Whether operators manage the accounts of an application by hand, or Dravo provisions them.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useConfirmation } from '../../app/confirmation'
import { useMay } from '../../app/session'
import EffectsList from '../../components/EffectsList.vue'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const may = useMay()
const params = { path: { key: props.application.key } }
const open = ref(false)
const wish = () => ({ tracked_only: !props.application.tracked_only })
const { wrong, busy, attempt, effects } = useConfirmation(
  open,
  () => ['applications', props.application.key, 'tracked-only', wish().tracked_only],
  () => answered(api.POST('/api/v1/applications/{key}/tracked-only/preview', { params, body: wish() })),
)
async function change(): Promise<void> {
  const body = wish()
  if (await attempt(() => answered(api.PATCH('/api/v1/applications/{key}', { params, body }))))
    open.value = false
}
</script>

<template>
  <section aria-labelledby="tracking">
    <h2 id="tracking">Accounts</h2>
    <p v-if="application.tracked_only">Operators manage the accounts by hand. Dravo lists what to do.</p>
    <p v-else>Dravo provisions the accounts by SCIM.</p>
    <v-btn v-if="may('applications.change')" variant="outlined" @click="open = true">
      {{ application.tracked_only ? 'Provision accounts' : 'Manage accounts by hand' }}
    </v-btn>
    <FormDialog
      v-model="open"
      :title="
        application.tracked_only
          ? `Provision the accounts of ${application.label}?`
          : `Manage the accounts of ${application.label} by hand?`
      "
      :act="application.tracked_only ? 'Provision accounts' : 'Manage by hand'"
      :wrong="wrong ?? effects.error.value"
      :busy="busy"
      :waiting="effects.isFetching.value || effects.isError.value"
      @done="change"
    >
      <EffectsList v-if="effects.data.value" :effects="effects.data.value" />
    </FormDialog>
  </section>
</template>
