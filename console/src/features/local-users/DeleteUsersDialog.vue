<script setup lang="ts">
// Deletes several local users, with a preview.
import { computed } from 'vue'
import { answered, api } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ users: { id: string; display_name: string }[] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const users = computed(() => props.users.map((each) => each.id))
const named = computed(() =>
  props.users.length === 1 ? (props.users[0]?.display_name ?? '') : `${props.users.length} users`,
)
const look = () => answered(api.POST('/api/v1/local-users/delete/preview', { body: { users: users.value } }))
const carryOut = (said: Confirmation) =>
  answered(api.POST('/api/v1/local-users/delete', { body: { users: users.value, ...said } }))
</script>

<template>
  <PreviewDialog
    v-model="open"
    :title="`Delete ${named}?`"
    act="Delete"
    :about="users.join(' ')"
    :look="look"
    :carry-out="carryOut"
    serious
    @done="emit('done')"
  >
    <p class="quiet">The users become leavers: access and accounts end. The history stays.</p>
  </PreviewDialog>
</template>
