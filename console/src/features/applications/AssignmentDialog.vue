<script setup lang="ts">
// Assigns a role to a group, a user, a rule, a pattern or everyone; makes them eligible; or excludes them.
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import type { Confirmation } from '../../app/assignments'
import { useSourceChoices } from '../../app/choices'
import { useMay } from '../../app/session'
import GroupSelect from '../../components/GroupSelect.vue'
import PatternField from './PatternField.vue'
import UsersSelect from '../../components/UsersSelect.vue'
import PreviewDialog from '../../components/PreviewDialog.vue'
import ExpressionField from '../../components/ExpressionField.vue'
import UserSelect from '../../components/UserSelect.vue'
import RuleField from './RuleField.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()

type Kind = 'group' | 'user' | 'rule' | 'pattern' | 'expression' | 'everyone'
const may = useMay()
const everyKind: { value: Kind; label: string }[] = [
  { value: 'group', label: 'Group' },
  { value: 'pattern', label: 'Group name pattern' },
  { value: 'rule', label: 'Rule' },
  { value: 'expression', label: 'Expression' },
  { value: 'everyone', label: 'Everyone' },
  { value: 'user', label: 'Users' },
]
// Rules and expressions use attributes.
const kinds = computed(() =>
  everyKind.filter((each) => !['rule', 'expression'].includes(each.value) || may('attributes.read')),
)
/** Whether the role follows from the group name or the expression. */
const named = computed(() => kind.value === 'pattern' || kind.value === 'expression')
const kind = ref<Kind>('group')
const groups = ref<string[]>([])
const users = ref<string[]>([])
const rule = ref('')
const expression = ref('')
const example = ref<string | null>(null)
const pattern = ref('')
const source = ref<string | null>(null)
const confirmed = ref<string[]>([])
const role = ref<string | null>(null)
const plan = ref<string | null>(null)
const newcomers = ref(false)
const future = ref(false)
const sources = useSourceChoices()
const from = ref('')
const until = ref('')
const note = ref('')
const LET_IN = '(access without a role)'
const KEEP_OUT = '(exclude)'
const roles = computed(() => [
  ...props.application.roles.map((each) => ({ title: each.label, value: each.key })),
  { title: 'Access without a role', value: LET_IN },
  { title: 'Exclude', value: KEEP_OUT },
])

watch(open, (now) => {
  if (!now) return
  groups.value = []
  users.value = []
  note.value = until.value = from.value = rule.value = pattern.value = expression.value = ''
  confirmed.value = []
  newcomers.value = future.value = false
  source.value = null
  plan.value = null
  role.value = props.application.roles[0]?.key ?? null
})

const subject = computed(() => {
  if (kind.value === 'group') return { group: groups.value[0] ?? null }
  if (kind.value === 'user') return { user: users.value[0] ?? null }
  if (kind.value === 'rule')
    return {
      rule: rule.value.trim() || null,
      source: source.value,
      future_users: Boolean(source.value) && future.value,
    }
  if (kind.value === 'pattern')
    return { pattern: pattern.value.trim() || null, source: source.value, confirmed: confirmed.value }
  if (kind.value === 'expression')
    return { expression: expression.value.trim() || null, source: source.value }
  return { everyone: true }
})
const whole = computed(() => Object.values(subject.value)[0] && (named.value || role.value))
const wanted = computed(() => ({
  application: props.application.key,
  role: named.value || role.value === LET_IN || role.value === KEEP_OUT ? null : role.value,
  excludes: !named.value && role.value === KEEP_OUT,
  plan: named.value || !(role.value === LET_IN || role.value === KEEP_OUT) ? plan.value : null,
  new_users_only: kind.value !== 'user' && newcomers.value,
  ...subject.value,
  from: from.value || null,
  until: until.value || null,
}))
/** The same assignment for several users; null for any other target. */
const wantedByMany = computed(() => {
  if (kind.value !== 'user' || users.value.length < 2) return null
  const { application, role: key, excludes, plan: seat, from: start, until: end } = wanted.value
  return { application, role: key, excludes, plan: seat, from: start, until: end, users: users.value }
})
const about = computed(() => (whole.value ? (wantedByMany.value ?? wanted.value) : null))
const look = () =>
  wantedByMany.value
    ? answered(api.POST('/api/v1/assignments/users/preview', { body: wantedByMany.value }))
    : answered(api.POST('/api/v1/assignments/preview', { body: wanted.value }))
const add = (said: Confirmation) => {
  const more = { note: note.value || null, ...said }
  return wantedByMany.value
    ? answered(api.POST('/api/v1/assignments/users', { body: { ...wantedByMany.value, ...more } }))
    : answered(api.POST('/api/v1/assignments', { body: { ...wanted.value, ...more } }))
}
</script>

<template>
  <PreviewDialog
    v-model="open"
    title="Assign role"
    :act="wanted.excludes ? 'Exclude' : 'Assign'"
    :about="about"
    :look="look"
    :carry-out="add"
    :serious="wanted.excludes"
    @done="emit('done')"
  >
    <v-radio-group v-model="kind" inline hide-details density="compact" aria-label="Assign to" class="kinds">
      <v-radio v-for="each in kinds" :key="each.value" :label="each.label" :value="each.value" />
    </v-radio-group>
    <GroupSelect v-if="kind === 'group'" v-model="groups" label="Group" claimed />
    <UsersSelect v-else-if="kind === 'user'" v-model="users" label="Users" />
    <template v-else-if="kind === 'rule'">
      <RuleField v-model="rule" />
      <v-select v-model="source" :items="sources" label="Only attributes from this source" clearable />
      <v-switch
        v-if="source"
        v-model="future"
        label="Future users need no confirmation"
        hint="If off, users who match a rule for the highest role later need your confirmation."
        persistent-hint
      />
    </template>
    <PatternField
      v-else-if="kind === 'pattern'"
      v-model:pattern="pattern"
      v-model:source="source"
      v-model:confirmed="confirmed"
      :application="application.key"
    />
    <template v-else-if="kind === 'expression'">
      <ExpressionField v-model="expression" label="Expression" :user="example" />
      <p class="quiet hint">
        The values are the keys, labels or sent values of roles, in any letter case. Other values give no
        role. Future users need your confirmation for the highest role.
      </p>
      <v-select v-model="source" :items="sources" label="Only attributes from this source" clearable />
      <UserSelect v-model="example" label="Result for a user" />
    </template>
    <div class="row">
      <v-select v-if="!named" v-model="role" :items="roles" label="Role" />
      <v-select
        v-if="application.plans.length && role !== LET_IN && role !== KEEP_OUT"
        v-model="plan"
        :items="application.plans.map((each) => ({ title: each.label, value: each.key }))"
        label="License plan"
        clearable
      />
      <v-text-field v-model="from" type="date" label="Start date" persistent-placeholder />
      <v-text-field v-model="until" type="date" label="End date (included)" persistent-placeholder />
    </div>
    <v-checkbox
      v-if="kind !== 'user'"
      v-model="newcomers"
      label="New users only"
      hide-details
      density="compact"
    />
    <v-text-field v-model="note" label="Note" />
  </PreviewDialog>
</template>

<style scoped>
.hint {
  margin: 0;
}
.kinds :deep(.v-selection-control-group) {
  gap: 2px 14px;
}
</style>
