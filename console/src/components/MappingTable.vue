<script setup lang="ts">
// Which group (of which source) or person gets which role, and how many people each row reaches.
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../api/client'
import AskDialog from './AskDialog.vue'
import ChangePreview from './ChangePreview.vue'
import EmptyState from './EmptyState.vue'
import PagedTable from './PagedTable.vue'
import StateMark from './StateMark.vue'
import TimeOf from './TimeOf.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const queries = useQueryClient()
const changed = ref(0)
const about = computed(() => ({ application: props.application.key, changed: changed.value }))
const fetch = (after: string | undefined, count: number) =>
  answered(api.GET('/api/v1/assignments', { params: { query: { after, count, application: props.application.key } } }))

const adding = ref(false)
const kind = ref<'group' | 'person'>('group')
// The whole choice is kept, so that it keeps its name while other words are looked for.
const choice = ref<Choice | null>(null)
const chosen = computed(() => choice.value?.value ?? null)
const role = ref<string | null>(null)
const until = ref('')
const note = ref('')
const wrong = ref<unknown>(null)
const busy = ref(false)
const roles = computed(() => props.application.roles.map((each) => ({ title: each.label, value: each.key })))

interface Choice {
  value: string
  title: string
}
const asked = ref('')
const found = useQuery({
  queryKey: computed(() => ['choices', kind.value, asked.value]),
  enabled: adding,
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

const body = computed(() => ({
  application: props.application.key,
  role: role.value ?? '',
  ...(kind.value === 'group' ? { group: chosen.value } : { person: chosen.value }),
  until: until.value ? new Date(`${until.value}T23:59:59.999`).toISOString() : null,
  note: note.value || null,
}))
const preview = useQuery({
  queryKey: computed(() => ['preview', body.value]),
  enabled: computed(() => adding.value && chosen.value !== null && role.value !== null),
  queryFn: () => answered(api.POST('/api/v1/assignments/preview', { body: body.value })),
  staleTime: 0,
})

function begin(): void {
  adding.value = true
  choice.value = null
  asked.value = note.value = until.value = ''
  role.value = props.application.roles[0]?.key ?? null
  wrong.value = null
}

async function add(): Promise<void> {
  busy.value = true
  try {
    await answered(api.POST('/api/v1/assignments', { body: body.value }))
    adding.value = false
    changed.value++
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  } finally {
    busy.value = false
  }
}

const removing = ref<Schemas['Assignment'] | null>(null)
const asking = ref(false)
const removal = useQuery({
  queryKey: computed(() => ['removal', removing.value?.id]),
  enabled: computed(() => asking.value && removing.value !== null),
  queryFn: () =>
    answered(api.GET('/api/v1/assignments/{id}/removal', { params: { path: { id: removing.value?.id ?? '' } } })),
  staleTime: 0,
})

async function remove(): Promise<void> {
  busy.value = true
  try {
    await answered(api.DELETE('/api/v1/assignments/{id}', { params: { path: { id: removing.value?.id ?? '' } } }))
    asking.value = false
    changed.value++
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="row filters">
    <v-btn color="primary" :disabled="!application.roles.length" @click="begin">Map a group or person</v-btn>
    <span v-if="!application.roles.length" class="quiet">
      Give it a role first, under
      <router-link :to="`/applications/${application.key}/settings`">Roles and connection</router-link>.
    </span>
  </div>
  <PagedTable
    name="assignments"
    caption="Who gets which role"
    :columns="['Group or person', 'Source', 'Role', 'Reaches', 'Until', 'By', '']"
    :fetch="fetch"
    :about="about"
    :refresh="5000"
  >
    <template #row="{ item }">
      <td>
        <template v-if="item.group">
          <router-link :to="`/groups/${item.group.id}`">{{ item.group.name }}</router-link>
          <StateMark v-if="item.group.gone" state="gone" title="The source has deleted this group." />
          <div class="mono quiet">{{ item.group.external_id || item.group.id }}</div>
        </template>
        <router-link v-else-if="item.person" :to="`/people/${item.person.id}`">{{
          item.person.display_name
        }}</router-link>
        <div v-if="item.note" class="quiet">{{ item.note }}</div>
      </td>
      <td>
        <router-link v-if="item.source" :to="`/sources/${item.source.key}`">{{ item.source.label }}</router-link>
        <span v-else class="quiet">direct</span>
      </td>
      <td>
        <b>{{ item.role.label }}</b>
      </td>
      <td>
        {{ item.reach.toLocaleString('en') }} {{ item.reach === 1 ? 'person' : 'people' }}
        <div v-if="!item.reach"><StateMark state="reaches nobody" /></div>
      </td>
      <td><TimeOf :at="item.until" never="open" /></td>
      <td>{{ item.created_by }}<br /><TimeOf :at="item.created_at" /></td>
      <td>
        <v-btn
          size="small"
          variant="outlined"
          :aria-label="`Take away ${item.role.label} from ${item.group?.name ?? item.person?.display_name}`"
          @click="((removing = item), (asking = true), (wrong = null))"
        >
          Take away
        </v-btn>
      </td>
    </template>
    <template #empty>
      <EmptyState title="Nobody gets a role yet">
        Map a group of a source to a role: whoever is in the group gets the role, and loses it on leaving the group.
      </EmptyState>
    </template>
  </PagedTable>

  <AskDialog
    v-model="adding"
    title="Map a group or person to a role"
    act="Give the role"
    :wrong="wrong"
    :busy="busy"
    wide
    @done="add"
  >
    <v-radio-group v-model="kind" inline hide-details density="compact">
      <v-radio label="A group" value="group" />
      <v-radio label="One person" value="person" />
    </v-radio-group>
    <v-autocomplete
      v-model="choice"
      return-object
      :items="found.data.value ?? []"
      :label="kind === 'group' ? 'Group' : 'Person'"
      no-filter
      :no-data-text="found.isFetching.value ? 'Looking …' : 'Nothing fits'"
      @update:search="look"
    />
    <div class="row">
      <v-select v-model="role" :items="roles" label="Role" />
      <v-text-field v-model="until" type="date" label="Until (that day included)" persistent-placeholder />
    </div>
    <v-text-field v-model="note" label="Note" />
    <ChangePreview v-if="preview.data.value && chosen" :preview="preview.data.value" />
  </AskDialog>
  <AskDialog
    v-model="asking"
    :title="`Take ${removing?.role.label} away from ${removing?.group?.name ?? removing?.person?.display_name}?`"
    act="Take it away"
    :wrong="wrong"
    :busy="busy"
    grave
    wide
    @done="remove"
  >
    <ChangePreview v-if="removal.data.value" :preview="removal.data.value" />
  </AskDialog>
</template>
