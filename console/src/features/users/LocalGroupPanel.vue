<script setup lang="ts">
// Changes a local group: members, name and deletion, each with a preview. Of a group of a source whose members
// are managed in Dravo, only its users.
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import GroupSelect from '../../components/GroupSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ group: Schemas['GroupDetail'] }>()
// The user or group to remove.
const leaving = defineModel<{ user?: string; group?: string; name: string } | null>('leaving', {
  default: null,
})
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const path = computed(() => ({ id: props.group.id }))

const putting = ref(false)
const names = ref('')
const groups = ref<string[]>([])
const users = computed(() =>
  names.value
    .split(/[\n,;]+/)
    .map((each) => each.trim())
    .filter(Boolean),
)
const coming = computed(() =>
  users.value.length || groups.value.length ? { add: users.value, add_groups: groups.value } : null,
)
function put(): void {
  names.value = ''
  groups.value = []
  putting.value = true
}
const taking = computed({
  get: () => leaving.value !== null,
  set: (now) => (leaving.value = now ? leaving.value : null),
})
const going = computed(() =>
  leaving.value
    ? {
        remove: leaving.value.user ? [leaving.value.user] : [],
        remove_groups: leaving.value.group ? [leaving.value.group] : [],
      }
    : null,
)
const members = (body: object | null) =>
  answered(
    api.POST('/api/v1/groups/{id}/members/preview', { params: { path: path.value }, body: { ...body } }),
  )
const change = (body: object | null, said: Confirmation) =>
  answered(
    api.POST('/api/v1/groups/{id}/members', { params: { path: path.value }, body: { ...body, ...said } }),
  )

const renaming = ref(false)
const name = ref('')
const description = ref('')
watch(renaming, () => {
  name.value = props.group.name
  description.value = props.group.description
})
const { wrong, busy, attempt } = useAttempts()
async function rename(): Promise<void> {
  const request = api.PATCH('/api/v1/groups/{id}', {
    params: { path: path.value },
    body: { name: name.value, description: description.value },
  })
  if (await attempt(() => answered(request))) renaming.value = false
}

const removing = ref(false)
const removal = () => answered(api.GET('/api/v1/groups/{id}/removal', { params: { path: path.value } }))
const remove = ({ confirm, expect }: Confirmation) =>
  answered(api.DELETE('/api/v1/groups/{id}', { params: { path: path.value, query: { confirm, ...expect } } }))
</script>

<template>
  <div class="row">
    <v-btn color="primary" @click="put">Add members</v-btn>
    <template v-if="group.local">
      <v-btn variant="outlined" @click="renaming = true">Edit group</v-btn>
      <v-btn variant="outlined" @click="removing = true">Delete group</v-btn>
    </template>
  </div>
  <PreviewDialog
    v-model="putting"
    :title="`Add members to ${group.name}`"
    act="Add"
    :about="coming"
    :look="() => members(coming)"
    :carry-out="(said) => change(coming, said)"
    @done="emit('changed')"
  >
    <v-textarea
      v-model="names"
      label="Users: user names, emails or IDs, one per line"
      rows="4"
      auto-grow
      max-rows="10"
      autocomplete="off"
    />
    <GroupSelect v-if="group.local" v-model="groups" label="Groups with their members" several />
  </PreviewDialog>
  <PreviewDialog
    v-model="taking"
    :title="leaving ? `Remove ${leaving.name} from ${group.name}?` : ''"
    act="Remove"
    :about="going"
    :look="() => members(going)"
    :carry-out="(said) => change(going, said)"
    serious
    @done="emit('changed')"
  />
  <PreviewDialog
    v-model="removing"
    :title="`Delete group ${group.name}?`"
    act="Delete"
    :about="group.id"
    :look="removal"
    :carry-out="remove"
    serious
    @done="router.push({ path: '/groups' })"
  />
  <FormDialog v-model="renaming" title="Edit group" act="Save" :wrong="wrong" :busy="busy" @done="rename">
    <v-text-field v-model="name" label="Name" autocomplete="off" />
    <v-textarea v-model="description" label="Description" rows="2" auto-grow maxlength="500" />
  </FormDialog>
</template>
