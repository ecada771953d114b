<script setup lang="ts">
// What can be done with a local group: who comes in, who goes, its name, and its end; each shown before it is done.
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { answered, api, type Schemas } from '../../api/client'
import type { Sure } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import GroupSelect from '../../components/GroupSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ group: Schemas['GroupDetail'] }>()
// Somebody, or a group, who is to be taken out.
const leaving = defineModel<{ person?: string; group?: string; name: string } | null>('leaving', { default: null })
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const path = computed(() => ({ id: props.group.id }))

const putting = ref(false)
const names = ref('')
const groups = ref<string[]>([])
const people = computed(() =>
  names.value
    .split(/[\n,;]+/)
    .map((each) => each.trim())
    .filter(Boolean),
)
const coming = computed(() =>
  people.value.length || groups.value.length ? { add: people.value, add_groups: groups.value } : null,
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
        remove: leaving.value.person ? [leaving.value.person] : [],
        remove_groups: leaving.value.group ? [leaving.value.group] : [],
      }
    : null,
)
const members = (body: object | null) =>
  answered(api.POST('/api/v1/groups/{id}/members/preview', { params: { path: path.value }, body: { ...body } }))
const change = (body: object | null, said: Sure) =>
  answered(api.POST('/api/v1/groups/{id}/members', { params: { path: path.value }, body: { ...body, ...said } }))

const renaming = ref(false)
const name = ref('')
watch(renaming, () => (name.value = props.group.name))
const { wrong, busy, attempt } = useAttempts()
async function rename(): Promise<void> {
  const request = api.PATCH('/api/v1/groups/{id}', { params: { path: path.value }, body: { name: name.value } })
  if (await attempt(() => answered(request))) renaming.value = false
}

const removing = ref(false)
const removal = () => answered(api.GET('/api/v1/groups/{id}/removal', { params: { path: path.value } }))
const remove = ({ confirm, expect }: Sure) =>
  answered(api.DELETE('/api/v1/groups/{id}', { params: { path: path.value, query: { confirm, ...expect } } }))
</script>

<template>
  <div class="row">
    <v-btn color="primary" @click="put">Put somebody in</v-btn>
    <v-btn variant="outlined" @click="renaming = true">Rename</v-btn>
    <v-btn variant="outlined" @click="removing = true">Take the group away</v-btn>
  </div>
  <PreviewDialog
    v-model="putting"
    :title="`Who comes into ${group.name}?`"
    act="Put them in"
    :about="coming"
    :look="() => members(coming)"
    :carry-out="(said) => change(coming, said)"
    @done="emit('changed')"
  >
    <v-textarea
      v-model="names"
      label="People: user names, e-mails or ids, one a line"
      rows="4"
      auto-grow
      max-rows="10"
      autocomplete="off"
    />
    <GroupSelect v-model="groups" label="Groups, with everybody in them" several />
  </PreviewDialog>
  <PreviewDialog
    v-model="taking"
    :title="leaving ? `Take ${leaving.name} out of ${group.name}?` : ''"
    act="Take out"
    :about="going"
    :look="() => members(going)"
    :carry-out="(said) => change(going, said)"
    grave
    @done="emit('changed')"
  />
  <PreviewDialog
    v-model="removing"
    :title="`Take ${group.name} away?`"
    act="Take it away"
    :about="group.id"
    :look="removal"
    :carry-out="remove"
    grave
    @done="router.push({ path: '/groups' })"
  />
  <FormDialog v-model="renaming" title="Another name" act="Rename" :wrong="wrong" :busy="busy" @done="rename">
    <v-text-field v-model="name" label="Name" autocomplete="off" />
  </FormDialog>
</template>
