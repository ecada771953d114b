<script setup lang="ts">
// Edits the label, the email domains and the note of a source.
import { ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'

const props = defineProps<{ source: Schemas['Source'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const label = ref('')
const domains = ref('')
const note = ref('')
const { wrong, busy, attempt } = useAttempts()
watch(
  open,
  () => {
    label.value = props.source.label
    domains.value = props.source.domains.join('\n')
    note.value = props.source.note ?? ''
    wrong.value = null
  },
  { immediate: true },
)
async function save(): Promise<void> {
  const body = {
    label: label.value,
    domains: domains.value.split(/[\s,;]+/).filter(Boolean),
    note: note.value,
  }
  const params = { path: { key: props.source.key } }
  if (await attempt(() => answered(api.PATCH('/api/v1/sources/{key}', { params, body })))) {
    open.value = false
    emit('done')
  }
}
</script>

<template>
  <FormDialog v-model="open" title="Edit source" act="Save" :wrong="wrong" :busy="busy" @done="save">
    <v-text-field v-model="label" label="Label" />
    <v-textarea
      v-model="domains"
      label="Email domains"
      rows="2"
      auto-grow
      hint="One per line, such as fernhollow.example. Dravo links records by email only within domains that a source owns."
      persistent-hint
    />
    <v-textarea
      v-model="note"
      label="Note"
      rows="2"
      auto-grow
      maxlength="2000"
      hint="For other operators"
      persistent-hint
    />
  </FormDialog>
</template>
