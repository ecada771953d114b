<script setup lang="ts">
// Invites users, as a list or from a CSV file, with a preview of users, roles and rejected lines.
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useApplicationChoices } from '../../app/choices'
import { usePaused } from '../../app/debounce'
import { encoded, save } from '../../app/files'
import EmptyState from '../../components/EmptyState.vue'
import FormDialog from '../../components/FormDialog.vue'
import LocalGroups from './LocalGroups.vue'
import PasswordList from './PasswordList.vue'

const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const { wrong, busy, attempt } = useAttempts()
const applications = useApplicationChoices()
const empty = () => ({
  from: 'list' as 'list' | 'file',
  list: '',
  csv: '',
  groups: [] as string[],
  application: null as string | null,
  role: null as string | null,
  until: '',
  with_passwords: false,
})
const fields = reactive(empty())
const file = ref<File | null>(null)
const typed = ref('')
const result = ref<Schemas['InvitationResult'] | null>(null)
watch(open, () => {
  Object.assign(fields, empty())
  file.value = null
  typed.value = ''
  result.value = null
  wrong.value = null
})
watch(file, async (chosen) => (fields.csv = chosen ? await encoded(chosen) : ''))
watch(
  () => fields.application,
  () => (fields.role = null),
)
const chosen = useQuery({
  queryKey: computed(() => ['applications', fields.application]),
  queryFn: () =>
    answered(api.GET('/api/v1/applications/{key}', { params: { path: { key: fields.application ?? '' } } })),
  enabled: () => Boolean(fields.application),
})
const roles = computed(
  () => chosen.data.value?.roles.map((each) => ({ title: each.label, value: each.key })) ?? [],
)
const request = computed(() => ({
  users:
    fields.from === 'list'
      ? fields.list
          .split('\n')
          .map((line) => line.trim())
          .filter(Boolean)
          .map((email) => ({ email }))
      : [],
  csv: fields.from === 'file' ? fields.csv : '',
  groups: fields.groups,
  application: fields.application ?? '',
  role: fields.role ?? '',
  until: fields.until,
  with_passwords: fields.with_passwords,
}))
const settled = usePaused(() => request.value, 400)
const complete = computed(
  () =>
    Boolean(request.value.users.length || request.value.csv) && (!fields.application || Boolean(fields.role)),
)
const preview = useQuery({
  queryKey: computed(() => ['invitation preview', settled.value]),
  queryFn: () => answered(api.POST('/api/v1/invitations/preview', { body: settled.value })),
  enabled: () => open.value && complete.value && settled.value === request.value && !result.value,
  retry: false,
  staleTime: 0,
})
const found = computed(() => (complete.value ? preview.data.value : undefined))
const looking = computed(
  () => complete.value && (settled.value !== request.value || preview.isFetching.value),
)
const act = computed(() => {
  const number = found.value?.items.length
  const verb = fields.with_passwords ? 'Create' : 'Invite'
  return number === undefined ? verb : `${verb} ${number} ${number === 1 ? 'user' : 'users'}`
})
async function invite(): Promise<void> {
  if (!complete.value || looking.value) return
  const body = { ...request.value, expect: found.value?.items.length ?? null, confirm: typed.value || null }
  const done = await attempt(
    async () => (result.value = await answered(api.POST('/api/v1/invitations', { body }))),
  )
  if (!done) return
  emit('done')
  if (!fields.with_passwords && !result.value?.rejected.length) open.value = false
}
const passwords = computed(
  () =>
    result.value?.items.flatMap((each) =>
      each.password ? [{ user_name: each.user_name, password: each.password }] : [],
    ) ?? [],
)
const template = () =>
  save(
    'invitations.csv',
    'email,given_name,family_name,department,groups,application,role,until\r\n' +
      'ida.vosper@fernhollow.example,Ida,Vosper,Seed Bank,,,,\r\n',
  )
</script>

<template>
  <v-dialog
    v-if="result"
    v-model="open"
    max-width="760"
    aria-label="Invited users"
    :persistent="passwords.length > 0"
  >
    <v-card class="ask">
      <h2>{{ result.items.length }} {{ result.items.length === 1 ? 'user' : 'users' }} created</h2>
      <PasswordList v-if="passwords.length" :passwords="passwords" @stored="open = false" />
      <p v-else>Each gets an email with a link.</p>
      <template v-if="result.rejected.length">
        <h3>Rejected lines</h3>
        <ul>
          <li v-for="each in result.rejected" :key="each.line">
            Line {{ each.line }}: {{ each.message }} {{ each.hint }}
          </li>
        </ul>
      </template>
      <div v-if="!passwords.length" class="row">
        <v-btn variant="outlined" @click="open = false">Close</v-btn>
      </div>
    </v-card>
  </v-dialog>
  <FormDialog
    v-else
    v-model="open"
    title="Invite users"
    wide
    :act="act"
    :wrong="wrong ?? (complete ? preview.error.value : null)"
    :busy="busy"
    :waiting="looking"
    @done="invite"
  >
    <v-radio-group v-model="fields.from" inline hide-details label="Users">
      <v-radio value="list" label="as a list" />
      <v-radio value="file" label="from a CSV file" />
    </v-radio-group>
    <v-textarea
      v-if="fields.from === 'list'"
      v-model="fields.list"
      label="Email addresses"
      rows="3"
      auto-grow
      hint="One in each line, such as Ida Vosper <ida.vosper@fernhollow.example>"
      persistent-hint
    />
    <div v-else class="row">
      <v-file-input v-model="file" label="CSV file" accept=".csv,text/csv" class="file" hide-details />
      <v-btn variant="text" @click="template">Download a template</v-btn>
    </div>
    <div class="fields">
      <LocalGroups v-model="fields.groups" />
      <v-text-field
        v-model="fields.until"
        type="date"
        label="Last day"
        hint="The users are inactive afterwards; empty: no end"
        persistent-hint
      />
      <v-autocomplete
        v-model="fields.application"
        :items="applications"
        label="Application"
        clearable
        hide-details
      />
      <v-select v-model="fields.role" :items="roles" label="Role" :disabled="!roles.length" hide-details />
    </div>
    <v-switch
      v-model="fields.with_passwords"
      label="One-time passwords in place of emails"
      hint="Users are active at once. Their passwords are shown here once, to hand out."
      persistent-hint
    />
    <div v-if="found" class="found" aria-live="polite">
      <div v-if="found.items.length" class="wide-table">
        <table class="plain" aria-label="Users to invite">
          <thead>
            <tr>
              <th scope="col">User</th>
              <th scope="col">Groups</th>
              <th scope="col">Roles when active</th>
              <th scope="col">Last day</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in found.items.slice(0, 50)" :key="each.line">
              <td>{{ each.email || each.user_name }}</td>
              <td>{{ each.groups.join(', ') }}</td>
              <td>{{ each.roles.join(', ') }}</td>
              <td>{{ each.until }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="found.items.length > 50" class="quiet">and {{ found.items.length - 50 }} more</p>
      </div>
      <EmptyState v-else title="Nobody to invite">Correct the rejected lines.</EmptyState>
      <template v-if="found.rejected.length">
        <h3>Rejected lines</h3>
        <ul>
          <li v-for="each in found.rejected.slice(0, 50)" :key="each.line">
            Line {{ each.line }}: {{ each.message }} {{ each.hint }}
          </li>
        </ul>
      </template>
      <v-text-field
        v-if="found.confirm"
        v-model="typed"
        :label="`${found.confirm} Type '${found.type_to_confirm}' to confirm`"
      />
    </div>
  </FormDialog>
</template>

<style scoped>
.ask {
  padding: 20px 22px;
}
.ask h2 {
  font-size: 19px;
  margin: 0 0 14px;
}
h3 {
  margin: 12px 0 6px;
}
.file {
  flex: 1 1 260px;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  gap: 12px 14px;
}
.wide-table {
  overflow-x: auto;
}
ul {
  margin: 0;
  padding-left: 18px;
}
</style>
