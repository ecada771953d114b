<script setup lang="ts">
// Creates or changes a local user, with a preview.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import UserSelect from '../../components/UserSelect.vue'

type Field = Exclude<keyof Schemas['LocalUser'], 'active' | 'manager'>
const props = defineProps<{ user?: Schemas['User'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ added: [id: string] }>()
/** The fields that most users have, and all others under their headings. */
const main: [Field, string][] = [
  ['given_name', 'Given name'],
  ['family_name', 'Family name'],
  ['user_name', 'User name'],
  ['email', 'Email'],
  ['title', 'Job title'],
  ['department', 'Department'],
]
const headings: { title: string; fields: [Field, string][] }[] = [
  {
    title: 'More names',
    fields: [
      ['display_name', 'Display name'],
      ['middle_name', 'Middle name'],
      ['nick_name', 'Nickname'],
      ['honorific_prefix', 'Title before the name'],
      ['honorific_suffix', 'Suffix after the name'],
    ],
  },
  {
    title: 'Contact',
    fields: [
      ['work_phone', 'Phone at work'],
      ['mobile_phone', 'Mobile phone'],
      ['profile_url', 'Page about the user'],
    ],
  },
  {
    title: 'Work',
    fields: [
      ['organization', 'Organization'],
      ['division', 'Division'],
      ['cost_center', 'Cost center'],
      ['employee_number', 'Employee number'],
      ['user_type', 'Kind of user'],
    ],
  },
  {
    title: 'Address',
    fields: [
      ['street_address', 'Street address'],
      ['postal_code', 'Postal code'],
      ['locality', 'Town'],
      ['region', 'State or region'],
      ['country', 'Country (two letters)'],
    ],
  },
  {
    title: 'Language and time',
    fields: [
      ['preferred_language', 'Language, such as pt'],
      ['locale', 'Locale, such as pt-PT'],
      ['time_zone', 'Time zone'],
    ],
  },
]
const others = headings.flatMap((heading) => heading.fields.map(([name]) => name))
const names = [...main.map(([name]) => name), ...others]
const empty = () => Object.fromEntries(names.map((name) => [name, ''])) as Record<Field, string>
const typed = ref(empty())
const manager = ref<string | null>(null)
/** Whether the user has one of the other attributes. */
const more = ref(false)
const active = ref(true)
const stored = useQuery({
  queryKey: computed(() => ['users', props.user?.id, 'local']),
  queryFn: () => answered(api.GET('/api/v1/users/{user}/local', { params: { path: path.value } })),
  enabled: () => open.value && props.user !== undefined,
})
function fill(known: Schemas['LocalUser'] | undefined): void {
  for (const name of names) typed.value[name] = known?.[name] ?? ''
  manager.value = known?.manager || null
  more.value = others.some((name) => typed.value[name])
  active.value = known?.active ?? true
}
/** A dialog that is opened shows the stored values; a refresh while one types does not replace them. */
let filled = false
watch(open, (now) => {
  if (!now) return
  wrong.value = null
  filled = false
  fill(undefined)
})
watch(
  () => [open.value, stored.data.value] as const,
  ([now, known]) => {
    if (!now || !known || filled) return
    filled = true
    fill(known)
  },
)
const body = computed(() => ({ ...typed.value, manager: manager.value ?? '', active: active.value }))
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
    wide
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
        v-for="[name, label] in main"
        :key="name"
        v-model="typed[name]"
        :label="label"
        autocomplete="off"
      />
      <UserSelect v-model="manager" label="Manager" />
    </div>
    <details :open="more">
      <summary>More attributes</summary>
      <template v-for="heading in headings" :key="heading.title">
        <h3>{{ heading.title }}</h3>
        <div class="fields">
          <v-text-field
            v-for="[name, label] in heading.fields"
            :key="name"
            v-model="typed[name]"
            :label="label"
            autocomplete="off"
          />
        </div>
      </template>
    </details>
    <v-checkbox v-if="user" v-model="active" label="Active" hide-details density="compact" />
  </component>
</template>

<style scoped>
h3 {
  margin: 14px 0 10px;
}
summary {
  cursor: pointer;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px 14px;
}
</style>
