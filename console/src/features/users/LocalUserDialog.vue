<script setup lang="ts">
// Creates or changes a local user, with a preview.
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ user?: Schemas['User'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ added: [id: string] }>()
const fields = [
  ['given_name', 'Given name', 'name.givenName'],
  ['family_name', 'Family name', 'name.familyName'],
  ['user_name', 'User name', 'userName'],
  ['email', 'Email', 'emails'],
  ['title', 'Title', 'title'],
  ['department', 'Department', 'department'],
] as const
type Typed = Record<(typeof fields)[number][0], string>
const typed = ref<Typed>({
  given_name: '',
  family_name: '',
  user_name: '',
  email: '',
  title: '',
  department: '',
})
const active = ref(true)
watch(open, (now) => {
  if (!now) return
  wrong.value = null
  for (const [name, , attribute] of fields)
    typed.value[name] = props.user?.attributes.find((each) => each.name === attribute)?.value ?? ''
  if (props.user) typed.value.email = props.user.email ?? ''
  active.value = props.user ? props.user.status === 'active' : true
})
/** The display name stays, unless it was the given name and the family name. */
const shown = computed(() => {
  const known = (name: string) => props.user?.attributes.find((each) => each.name === name)?.value ?? ''
  const made = [known('name.givenName'), known('name.familyName')].filter(Boolean).join(' ')
  return props.user && props.user.display_name !== made ? props.user.display_name : ''
})
const body = computed(() => ({ ...typed.value, display_name: shown.value, active: active.value }))
const path = computed(() => ({ user: props.user?.id ?? '' }))
const { wrong, busy, attempt } = useAttempts()
const look = () =>
  answered(api.POST('/api/v1/users/{user}/preview', { params: { path: path.value }, body: body.value }))
const change = (said: Confirmation) =>
  answered(
    api.PUT('/api/v1/users/{user}', { params: { path: path.value }, body: { ...body.value, ...said } }),
  )
async function add(): Promise<void> {
  let id = ''
  const done = await attempt(
    async () => (id = (await answered(api.POST('/api/v1/users', { body: body.value }))).id),
  )
  if (!done) return
  open.value = false
  emit('added', id)
}
</script>

<template>
  <component
    :is="user ? PreviewDialog : FormDialog"
    v-model="open"
    :title="user ? `Edit ${user.display_name}` : 'Create local user'"
    :act="user ? 'Save' : 'Create'"
    v-bind="
      user ? { about: typed.user_name ? body : null, look, carryOut: change } : { wrong, busy, onDone: add }
    "
  >
    <p v-if="!user" class="quiet">
      Create local users only for users that no source reports, to avoid duplicates. Local users get roles
      like all other users.
    </p>
    <div class="fields">
      <v-text-field
        v-for="[name, label] in fields"
        :key="name"
        v-model="typed[name]"
        :label="label"
        autocomplete="off"
      />
    </div>
    <v-checkbox v-if="user" v-model="active" label="Active" hide-details density="compact" />
  </component>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px 14px;
}
</style>
