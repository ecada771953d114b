<script setup lang="ts">
// Who decides about the members of a group of a source, with a preview of a change.
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { membersFrom, type MembersFrom } from '../../app/authority'
import { useMay } from '../../app/session'
import MembersFromSelect from '../../components/MembersFromSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ group: Schemas['GroupDetail'] }>()
const emit = defineEmits<{ changed: [] }>()
const may = useMay()
const path = computed(() => ({ id: props.group.id }))
const asking = ref(false)
const chosen = ref<MembersFrom | 'source'>('source')
watch(asking, (now) => {
  if (now) chosen.value = props.group.own_members_from ?? 'source'
})
const wish = computed(() => ({ members_from: chosen.value }))
const look = () =>
  answered(
    api.POST('/api/v1/groups/{id}/authority/preview', { params: { path: path.value }, body: wish.value }),
  )
const carryOut = (said: Confirmation) =>
  answered(
    api.PUT('/api/v1/groups/{id}/authority', {
      params: { path: path.value },
      body: { ...wish.value, ...said },
    }),
  )
</script>

<template>
  <p class="authority">
    Managed by: <b>{{ membersFrom[group.members_from] }}</b>
    <template v-if="group.own_members_from"> (the source differs)</template>
    <v-btn
      v-if="may('sources.change')"
      size="small"
      variant="text"
      aria-label="Edit who manages the members"
      @click="asking = true"
      >Edit</v-btn
    >
  </p>
  <PreviewDialog
    v-model="asking"
    :title="`Who manages the members of ${group.name}?`"
    act="Save"
    :about="wish"
    :look="look"
    :carry-out="carryOut"
    @done="emit('changed')"
  >
    <MembersFromSelect v-model="chosen" label="Members managed by" of-group />
  </PreviewDialog>
</template>

<style scoped>
.authority {
  margin: 0 0 8px;
}
</style>
