<script setup lang="ts">
// Creates a notification rule, or edits one.
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices, useSourceChoices } from '../../app/choices'
import { inWords } from '../../app/words'
import FormDialog from '../../components/FormDialog.vue'

type Rule = Schemas['Rule']
type Recipient = Schemas['Recipient']

const open = defineModel<boolean>({ required: true })
// Without a rule, the dialog creates one.
const props = defineProps<{ rule: Rule | null; kinds: Schemas['EventKind'][] }>()

const ROLES = ['super_administrator', 'administrator', 'help_desk', 'auditor', 'application_owner']
const applications = useApplicationChoices()
const sources = useSourceChoices()
const webhooks = useQuery({
  queryKey: ['webhooks', 'names'],
  queryFn: () => answered(api.GET('/api/v1/notifications/webhooks', { params: { query: { count: 500 } } })),
})
const choices = computed(() => props.kinds.map((each) => ({ title: each.label, value: each.key })))
const hooks = computed(
  () => webhooks.data.value?.items.map((each) => ({ title: each.label, value: each.id })) ?? [],
)
const fields = reactive({
  label: '',
  kinds: [] as string[],
  applications: [] as string[],
  sources: [] as string[],
  owners: false,
  roles: [] as string[],
  addresses: '',
  webhooks: [] as string[],
  frequency: 'immediately' as Rule['frequency'],
  enabled: true,
})
const { wrong, busy, attempt } = useAttempts()
watch(open, (now) => {
  if (!now) return
  wrong.value = null
  const rule = props.rule
  const of = (kind: Recipient['kind']) =>
    rule?.recipients.filter((each) => each.kind === kind).map((each) => each.value) ?? []
  fields.label = rule?.label ?? ''
  fields.kinds = [...(rule?.kinds ?? [])]
  fields.applications = [...(rule?.applications ?? [])]
  fields.sources = [...(rule?.sources ?? [])]
  fields.owners = of('owners').length > 0
  fields.roles = of('operators')
  fields.addresses = of('address').join('\n')
  fields.webhooks = of('webhook')
  fields.frequency = rule?.frequency ?? 'immediately'
  fields.enabled = rule?.enabled ?? true
})
function recipients(): Recipient[] {
  const to = (kind: Recipient['kind'], values: string[]) => values.map((value) => ({ kind, value }))
  const addresses = fields.addresses.split(/[\s,;]+/).filter(Boolean)
  return [
    ...(fields.owners ? to('owners', ['']) : []),
    ...to('operators', fields.roles),
    ...to('address', addresses),
    ...to('webhook', fields.webhooks),
  ]
}
async function save(): Promise<void> {
  const all = (chosen: string[]) => (chosen.length ? chosen : null)
  const body = {
    label: fields.label,
    kinds: all(fields.kinds),
    applications: all(fields.applications),
    sources: all(fields.sources),
    recipients: recipients(),
    frequency: fields.frequency,
    enabled: fields.enabled,
  }
  const id = props.rule?.id
  const request = () =>
    id
      ? answered(api.PUT('/api/v1/notifications/rules/{id}', { params: { path: { id } }, body }))
      : answered(api.POST('/api/v1/notifications/rules', { body }))
  if (await attempt(request)) open.value = false
}
</script>

<template>
  <FormDialog
    v-model="open"
    wide
    :title="rule ? `Edit rule ${rule.label}` : 'Create notification rule'"
    :act="rule ? 'Save' : 'Create'"
    :wrong="wrong"
    :busy="busy"
    @done="save"
  >
    <v-text-field v-model="fields.label" label="Name of the rule" />
    <h3>Events</h3>
    <v-autocomplete
      v-model="fields.kinds"
      :items="choices"
      label="Kinds of events (empty: all)"
      multiple
      chips
      closable-chips
    />
    <v-autocomplete
      v-model="fields.applications"
      :items="applications"
      label="Applications (empty: all)"
      multiple
      chips
      closable-chips
    />
    <v-autocomplete
      v-model="fields.sources"
      :items="sources"
      label="Sources (empty: all)"
      multiple
      chips
      closable-chips
    />
    <h3>Recipients</h3>
    <v-switch
      v-model="fields.owners"
      label="Owners of the application, else administrators"
      color="primary"
      density="compact"
      hide-details
    />
    <v-select
      v-model="fields.roles"
      :items="ROLES.map((each) => ({ title: inWords(each), value: each }))"
      label="Operators with a role"
      hint="Operators with an email address are notified."
      persistent-hint
      multiple
      chips
      closable-chips
    />
    <v-textarea
      v-model="fields.addresses"
      label="Email addresses"
      hint="One address per line."
      persistent-hint
      rows="2"
      auto-grow
      spellcheck="false"
    />
    <v-autocomplete v-model="fields.webhooks" :items="hooks" label="Webhooks" multiple chips closable-chips />
    <h3>Time</h3>
    <v-select
      v-model="fields.frequency"
      :items="['immediately', 'hourly', 'daily']"
      label="Emails are sent"
      hint="Hourly and daily emails sum up the events. Webhook messages are always sent immediately."
      persistent-hint
    />
    <v-switch v-model="fields.enabled" label="Enabled" color="primary" density="compact" hide-details />
  </FormDialog>
</template>

<style scoped>
h3 {
  margin: 0;
}
</style>
