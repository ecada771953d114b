<script setup lang="ts">
// Creates an operator, or edits one.
import { computed, reactive, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices } from '../../app/choices'
import { inWords } from '../../app/words'
import FormDialog from '../../components/FormDialog.vue'

type Operator = Schemas['Operator']
type Kind = Schemas['CreateOperatorRequest']['kind']
type Area = Operator['hidden_areas'][number]

const open = defineModel<boolean>({ required: true })
// Without an operator, the dialog creates one.
const props = defineProps<{ operator: Operator | null }>()
const emit = defineEmits<{ created: [operator: Schemas['NewOperator']] }>()

const meaning: Record<Kind, string> = {
  administrator: 'Manages sources, applications, assignments, provisioning and settings.',
  super_administrator: 'Manages everything, operators too.',
  help_desk: 'Finds users, sees their access and why, and retries provisioning.',
  auditor: 'Reads and exports everything. Changes nothing.',
  application_owner: 'Sees and changes assignments of their own applications only.',
}
const kinds = (Object.keys(meaning) as Kind[]).map((each) => ({ title: inWords(each), value: each }))
const areas: { title: string; value: Area }[] = [
  { title: 'Requests of sources', value: 'requests' },
  { title: 'Sign-in history', value: 'sign_ins' },
  { title: 'Audit log', value: 'audit' },
]
const masks = [
  { name: 'masked', label: 'Mask email addresses and other user attributes' },
  { name: 'masked_names', label: 'Mask names and user names, and texts that quote them' },
  { name: 'masked_networks', label: 'Mask network addresses' },
] as const
const applications = useApplicationChoices()
const fields = reactive({
  name: '',
  kind: 'administrator' as Kind,
  email: '',
  applications: [] as string[],
  masked: false,
  masked_names: false,
  masked_networks: false,
  hidden_areas: [] as Area[],
})
const { wrong, busy, attempt } = useAttempts()
/** The applications whose owner the operator is are changed on their own pages. */
const owned = computed(() => props.operator?.owner_of ?? [])
watch(open, (now) => {
  if (!now) return
  wrong.value = null
  const { name, kind, email, applications: named, hidden_areas } = props.operator ?? {}
  fields.name = name ?? ''
  fields.kind = (kind as Kind | undefined) ?? 'administrator'
  fields.email = email ?? ''
  fields.applications = (named ?? []).filter((each) => !owned.value.includes(each))
  for (const mask of masks) fields[mask.name] = props.operator?.[mask.name] ?? false
  fields.hidden_areas = [...(hidden_areas ?? [])]
})
const limited = computed(() => fields.kind === 'help_desk' || fields.kind === 'auditor')
const owner = computed(() => fields.kind === 'application_owner')
/** What the kind has no use for is left empty. */
const body = computed(() => ({
  ...fields,
  applications: owner.value ? fields.applications : [],
  masked: limited.value && fields.masked,
  masked_names: limited.value && fields.masked_names,
  masked_networks: limited.value && fields.masked_networks,
  hidden_areas: limited.value ? fields.hidden_areas : [],
}))
async function save(): Promise<void> {
  const id = props.operator?.id
  const request = async () => {
    if (id) {
      const params = { path: { id } }
      await answered(api.PATCH('/api/v1/operators/{id}', { params, body: body.value }))
    } else emit('created', await answered(api.POST('/api/v1/operators', { body: body.value })))
  }
  if (await attempt(request)) open.value = false
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="operator ? `Edit operator ${operator.name}` : 'Create operator'"
    :act="operator ? 'Save' : 'Create'"
    :wrong="wrong"
    :busy="busy"
    @done="save"
  >
    <v-text-field v-model="fields.name" label="Sign-in name" autocomplete="off" />
    <v-select
      v-model="fields.kind"
      :items="kinds"
      label="Kind"
      :hint="meaning[fields.kind]"
      persistent-hint
    />
    <v-text-field
      v-model="fields.email"
      label="Email"
      type="email"
      hint="Dravo sends notifications to this address, as the notification rules say."
      persistent-hint
      autocomplete="off"
    />
    <v-autocomplete
      v-if="owner"
      v-model="fields.applications"
      :items="applications"
      label="Applications"
      :hint="owned.length ? `Also the owner of: ${owned.join(', ')}` : undefined"
      :persistent-hint="owned.length > 0"
      multiple
      chips
      closable-chips
    />
    <template v-if="limited">
      <v-switch
        v-for="mask in masks"
        :key="mask.name"
        v-model="fields[mask.name]"
        :label="mask.label"
        color="primary"
        density="compact"
        hide-details
      />
      <v-select
        v-model="fields.hidden_areas"
        :items="areas"
        label="Hidden areas"
        hint="This operator does not see these areas."
        persistent-hint
        multiple
        chips
        closable-chips
      />
    </template>
    <p v-if="!operator" class="quiet">Dravo generates a password and shows it once.</p>
  </FormDialog>
</template>
