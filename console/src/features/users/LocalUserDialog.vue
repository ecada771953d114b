<script setup lang="ts">
// Somebody whom no source knows: entered here, or changed, with what the change would do.
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Sure } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'

const props = defineProps<{ person?: Schemas['Person'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ added: [id: string] }>()
const fields = [
  ['given_name', 'Given name', 'name.givenName'],
  ['family_name', 'Family name', 'name.familyName'],
  ['user_name', 'User name', 'userName'],
  ['email', 'E-mail', 'emails'],
  ['title', 'Title', 'title'],
  ['department', 'Department', 'department'],
] as const
type Typed = Record<(typeof fields)[number][0], string>
const typed = ref<Typed>({ given_name: '', family_name: '', user_name: '', email: '', title: '', department: '' })
const active = ref(true)
watch(open, (now) => {
  if (!now) return
  wrong.value = null
  for (const [name, , attribute] of fields)
    typed.value[name] = props.person?.attributes.find((each) => each.name === attribute)?.value ?? ''
  if (props.person) typed.value.email = props.person.email ?? ''
  active.value = props.person ? props.person.state === 'active' : true
})
/** The name that is shown stays as it is, unless it only was both names together. */
const shown = computed(() => {
  const known = (name: string) => props.person?.attributes.find((each) => each.name === name)?.value ?? ''
  const made = [known('name.givenName'), known('name.familyName')].filter(Boolean).join(' ')
  return props.person && props.person.display_name !== made ? props.person.display_name : ''
})
const body = computed(() => ({ ...typed.value, display_name: shown.value, active: active.value }))
const path = computed(() => ({ person: props.person?.id ?? '' }))
const { wrong, busy, attempt } = useAttempts()
const look = () =>
  answered(api.POST('/api/v1/users/{person}/preview', { params: { path: path.value }, body: body.value }))
const change = (said: Sure) =>
  answered(api.PUT('/api/v1/users/{person}', { params: { path: path.value }, body: { ...body.value, ...said } }))
async function add(): Promise<void> {
  let id = ''
  const done = await attempt(async () => (id = (await answered(api.POST('/api/v1/users', { body: body.value }))).id))
  if (!done) return
  open.value = false
  emit('added', id)
}
</script>

<template>
  <component
    :is="person ? PreviewDialog : FormDialog"
    v-model="open"
    :title="person ? `What is ${person.display_name} like?` : 'Somebody whom no source knows'"
    :act="person ? 'Change it' : 'Add them'"
    v-bind="person ? { about: typed.user_name ? body : null, look, carryOut: change } : { wrong, busy, onDone: add }"
  >
    <p v-if="!person" class="quiet">
      Whoever comes by a source is not entered here: one person would become two. Applications know them by the user
      name; they get roles like anybody.
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
    <v-checkbox v-if="person" v-model="active" label="Active: may have access at all" hide-details density="compact" />
  </component>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px 14px;
}
</style>
