<script setup lang="ts">
// Marks users as inactive or left, or removes their marks, with a preview.
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ users: { id: string; display_name: string }[]; remove?: boolean }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const status = ref<'inactive' | 'left'>('inactive')
const from = ref('')
const note = ref('')
watch(open, () => {
  status.value = 'inactive'
  from.value = note.value = ''
})
const named = computed(() =>
  props.users.length === 1 ? (props.users[0]?.display_name ?? '') : `${props.users.length} users`,
)
const users = computed(() => props.users.map((each) => each.id))
const mark = computed(() => ({
  users: users.value,
  status: status.value,
  from: from.value || null,
  note: note.value || null,
}))
// A note does not change the preview.
const about = computed(() => JSON.stringify([users.value, props.remove, status.value, from.value]))
const look = () =>
  answered(
    props.remove
      ? api.POST('/api/v1/user-marks/remove/preview', { body: { users: users.value } })
      : api.POST('/api/v1/user-marks/preview', { body: mark.value }),
  )
const carryOut = ({ confirm, expect }: Confirmation): Promise<unknown> =>
  props.remove
    ? answered(api.POST('/api/v1/user-marks/remove', { body: { users: users.value, confirm, expect } }))
    : answered(api.POST('/api/v1/user-marks', { body: { ...mark.value, confirm, expect } }))
</script>

<template>
  <PreviewDialog
    v-model="open"
    :title="remove ? `Remove the mark of ${named}?` : `Mark ${named}`"
    :act="remove ? 'Remove mark' : 'Mark'"
    :about="about"
    :look="look"
    :carry-out="carryOut"
    :serious="!remove"
    @done="emit('done')"
  >
    <p v-if="remove" class="quiet">The status then follows the sources again.</p>
    <template v-else>
      <p class="quiet">The mark wins over all sources until an operator removes it.</p>
      <v-radio-group v-model="status" label="Status" inline hide-details>
        <v-radio label="Inactive" value="inactive" />
        <v-radio label="Left" value="left" />
      </v-radio-group>
      <v-text-field
        v-model="from"
        label="From"
        type="date"
        hint="First day of the mark; empty: now"
        persistent-hint
      />
      <v-text-field v-model="note" label="Note" maxlength="2000" hint="For other operators" persistent-hint />
    </template>
  </PreviewDialog>
</template>
