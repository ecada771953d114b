<script setup lang="ts">
// Retires a source with a preview and its typed label, or restores a retired one.
import { answered, api, type Schemas } from '../../api/client'
import { useConfirmation } from '../../app/confirmation'
import BusyButton from '../../components/BusyButton.vue'
import ChangePreview from '../../components/ChangePreview.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import FormDialog from '../../components/FormDialog.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ source: Schemas['Source'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const params = { path: { key: props.source.key } }
const { typed, wrong, busy, attempt, effects } = useConfirmation(
  open,
  () => ['sources', props.source.key, 'retire'],
  () => answered(api.POST('/api/v1/sources/{key}/retire/preview', { params })),
)
async function retire(): Promise<void> {
  const body = { confirm: typed.value }
  if (await attempt(() => answered(api.POST('/api/v1/sources/{key}/retire', { params, body })))) {
    open.value = false
    emit('done')
  }
}
const restore = () =>
  attempt(async () => {
    await answered(api.POST('/api/v1/sources/{key}/restore', { params }))
    emit('done')
  })
</script>

<template>
  <section v-if="source.retired_at" class="panel retired" aria-label="Retired source">
    <div class="grow">
      <div>This source was retired <TimeLabel :at="source.retired_at" />. It reports no users.</div>
      <div class="quiet">Restoring brings back its users, groups and memberships.</div>
      <ErrorMessage :wrong="wrong" />
    </div>
    <BusyButton variant="outlined" :busy="busy" @click="restore">Restore</BusyButton>
  </section>
  <FormDialog
    v-model="open"
    :title="`Retire ${source.label}?`"
    act="Retire"
    :wrong="wrong ?? effects.error.value"
    :busy="busy"
    :waiting="effects.isFetching.value"
    serious
    wide
    @done="retire"
  >
    <div class="effects">
      <p v-for="each in effects.data.value?.effects" :key="each">{{ each }}</p>
    </div>
    <ChangePreview
      v-if="effects.data.value?.access"
      v-model:confirm="typed"
      :preview="effects.data.value.access"
    />
  </FormDialog>
</template>

<style scoped>
.effects p {
  margin: 0 0 4px;
}
.retired {
  align-items: center;
  display: flex;
  gap: 16px;
}
.retired .grow {
  flex: 1;
}
</style>
