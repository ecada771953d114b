<script setup lang="ts">
// Changes the label, owner, start URL, visibility and note of an application.
import { reactive, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import OwnerSelect from '../../components/OwnerSelect.vue'
import IconField from './IconField.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const fields = reactive({ label: '', owner: '', address: '', note: '', visible: true, requestable: false })
const { wrong, busy, attempt } = useAttempts()
watch(open, (now) => {
  if (!now) return
  const { label, owner, address, note, hidden, requestable } = props.application
  Object.assign(fields, {
    label,
    owner: owner ?? '',
    address: address ?? '',
    note: note ?? '',
    visible: !hidden,
    requestable,
  })
  wrong.value = null
})
async function save(): Promise<void> {
  const { visible, ...body } = fields
  const request = () =>
    answered(
      api.PATCH('/api/v1/applications/{key}', {
        params: { path: { key: props.application.key } },
        body: { ...body, hidden: !visible },
      }),
    )
  if (await attempt(request)) open.value = false
}
</script>

<template>
  <FormDialog v-model="open" title="Edit application" act="Save" :wrong="wrong" :busy="busy" @done="save">
    <IconField :application="application" />
    <v-text-field v-model="fields.label" label="Label" autocomplete="off" />
    <OwnerSelect v-model="fields.owner" />
    <v-text-field
      v-model="fields.address"
      label="Start URL"
      hint="Where users open the application."
      persistent-hint
      autocomplete="off"
    />
    <v-switch
      v-model="fields.visible"
      label="Show the application to users with access"
      color="primary"
      hide-details
    />
    <v-switch
      v-model="fields.requestable"
      label="Users can request access"
      color="primary"
      :disabled="!fields.visible"
      hide-details
    />
    <v-textarea v-model="fields.note" label="Note" rows="2" auto-grow max-rows="8" />
  </FormDialog>
</template>
