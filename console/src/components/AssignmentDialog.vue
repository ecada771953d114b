<script setup lang="ts">
// Give a role to a group, a person, those whom a rule or a pattern reaches, or everybody; let them in; or keep them out.
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../api/client'
import { sure } from '../app/assignments'
import AskDialog from './AskDialog.vue'
import ChangePreview from './ChangePreview.vue'
import PatternField from './PatternField.vue'
import RuleField from './RuleField.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const queries = useQueryClient()

type Kind = 'group' | 'person' | 'rule' | 'pattern' | 'everybody'
const kinds: { value: Kind; label: string }[] = [
  { value: 'group', label: 'A group' },
  { value: 'pattern', label: 'Groups by a pattern' },
  { value: 'rule', label: 'A rule' },
  { value: 'everybody', label: 'Everybody' },
  { value: 'person', label: 'One person' },
]
const kind = ref<Kind>('group')
// The whole choice is kept, so that it keeps its name while other words are looked for.
const choice = ref<Choice | null>(null)
const rule = ref('')
const pattern = ref('')
const source = ref<string | null>(null)
const confirmed = ref<string[]>([])
const role = ref<string | null>(null)
const newcomers = ref(false)
const from = ref('')
const until = ref('')
const note = ref('')
const typed = ref('')
const wrong = ref<unknown>(null)
const busy = ref(false)
const LET_IN = '(let in, without a role)'
const KEEP_OUT = '(keep out)'
const roles = computed(() => [
  ...props.application.roles.map((each) => ({ title: each.label, value: each.key })),
  { title: 'No role: let in only', value: LET_IN },
  { title: 'Keep out', value: KEEP_OUT },
])

interface Choice {
  value: string
  title: string
}
const asked = ref('')
const found = useQuery({
  queryKey: computed(() => ['choices', kind.value, asked.value]),
  enabled: computed(() => open.value && (kind.value === 'group' || kind.value === 'person')),
  placeholderData: keepPreviousData,
  queryFn: async (): Promise<Choice[]> => {
    const query = { q: asked.value || undefined, count: 20 }
    if (kind.value === 'group') {
      const page = await answered(api.GET('/api/v1/groups', { params: { query } }))
      return page.items.map((each) => ({
        value: each.id,
        title: `${each.name} · ${each.source?.label ?? 'local'} · ${each.members} members`,
      }))
    }
    const page = await answered(api.GET('/api/v1/people', { params: { query } }))
    return page.items.map((each) => ({ value: each.id, title: `${each.display_name} · ${each.user_name}` }))
  },
})
/** Words are looked for when the typing pauses; the name of what is chosen is no word to look for. */
let pausing: ReturnType<typeof setTimeout> | undefined
function look(text: string): void {
  clearTimeout(pausing)
  if (text !== choice.value?.title) pausing = setTimeout(() => (asked.value = text.trim()), 200)
}
watch(kind, () => {
  choice.value = null
  asked.value = ''
})
watch(open, (now) => {
  if (!now) return
  choice.value = null
  asked.value = note.value = until.value = from.value = rule.value = pattern.value = ''
  confirmed.value = []
  newcomers.value = false
  role.value = props.application.roles[0]?.key ?? null
  typed.value = ''
  wrong.value = null
})

const subject = computed(() => {
  if (kind.value === 'group') return { group: choice.value?.value ?? null }
  if (kind.value === 'person') return { person: choice.value?.value ?? null }
  if (kind.value === 'rule') return { rule: rule.value.trim() || null }
  if (kind.value === 'pattern')
    return { pattern: pattern.value.trim() || null, source: source.value, confirmed: confirmed.value }
  return { everybody: true }
})
const whole = computed(() => Object.values(subject.value)[0] && (kind.value === 'pattern' || role.value))
const body = computed(() => ({
  application: props.application.key,
  role: kind.value === 'pattern' || role.value === LET_IN || role.value === KEEP_OUT ? null : role.value,
  excludes: kind.value !== 'pattern' && role.value === KEEP_OUT,
  newcomers_only: kind.value !== 'person' && newcomers.value,
  ...subject.value,
  from: from.value || null,
  until: until.value || null,
  note: note.value || null,
}))
const settled = ref(body.value)
let waiting: ReturnType<typeof setTimeout> | undefined
watch(body, (now) => {
  clearTimeout(waiting)
  waiting = setTimeout(() => (settled.value = now), kind.value === 'rule' || kind.value === 'pattern' ? 500 : 0)
})
const preview = useQuery({
  queryKey: computed(() => ['preview', settled.value]),
  enabled: computed(() => Boolean(open.value && whole.value)),
  queryFn: () => answered(api.POST('/api/v1/assignments/preview', { body: settled.value })),
  staleTime: 0,
  retry: false,
})

async function add(): Promise<void> {
  busy.value = true
  try {
    const looked = { ...body.value, ...sure(preview.data.value, typed.value) }
    await answered(api.POST('/api/v1/assignments', { body: looked }))
    open.value = false
    emit('done')
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
    await preview.refetch()
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <AskDialog
    v-model="open"
    title="Who gets which role"
    :act="body.excludes ? 'Keep them out' : 'Give the role'"
    :wrong="wrong"
    :busy="busy"
    :grave="body.excludes"
    wide
    @done="add"
  >
    <v-radio-group v-model="kind" inline hide-details density="compact" aria-label="For whom" class="kinds">
      <v-radio v-for="each in kinds" :key="each.value" :label="each.label" :value="each.value" />
    </v-radio-group>
    <v-autocomplete
      v-if="kind === 'group' || kind === 'person'"
      v-model="choice"
      return-object
      :items="found.data.value ?? []"
      :label="kind === 'group' ? 'Group' : 'Person'"
      no-filter
      :no-data-text="found.isFetching.value ? 'Looking …' : 'Nothing fits'"
      @update:search="look"
    />
    <RuleField v-else-if="kind === 'rule'" v-model="rule" />
    <PatternField
      v-else-if="kind === 'pattern'"
      v-model:pattern="pattern"
      v-model:source="source"
      v-model:confirmed="confirmed"
      :application="application.key"
    />
    <div class="row">
      <v-select v-if="kind !== 'pattern'" v-model="role" :items="roles" label="Role" />
      <v-text-field v-model="from" type="date" label="From (that day)" persistent-placeholder />
      <v-text-field v-model="until" type="date" label="Until (that day included)" persistent-placeholder />
    </div>
    <v-checkbox
      v-if="kind !== 'person'"
      v-model="newcomers"
      label="Only for people who come from now on"
      hide-details
      density="compact"
    />
    <v-text-field v-model="note" label="Note" />
    <ChangePreview
      v-if="preview.data.value && whole"
      v-model:confirm="typed"
      :preview="preview.data.value"
      :name="application.label"
    />
  </AskDialog>
</template>

<style scoped>
.kinds :deep(.v-selection-control-group) {
  gap: 2px 14px;
}
</style>
