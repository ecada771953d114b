<script setup lang="ts">
// Simulates the access of a new user, before the first test.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useSourceChoices } from '../../app/choices'
import EmptyState from '../../components/EmptyState.vue'
import GroupSelect from '../../components/GroupSelect.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const sources = useSourceChoices()
/** A stored sign-in can be the start; its values are not put into the URL. */
const given = JSON.parse(String(history.state.expected ?? 'null')) as {
  source: string
  groups: string[]
  user: unknown
} | null
const source = ref<string | null>(given?.source ?? null)
watch(sources, (found) => (source.value ??= found[0]?.value ?? null), { immediate: true })
const department = ref('')
const title = ref('')
const groups = ref<string[]>(given?.groups ?? [])
const more = ref(given ? JSON.stringify(given.user, null, 2) : '')
const ENTERPRISE = 'urn:ietf:params:scim:schemas:extension:enterprise:2.0:User'

/** The typed text as JSON, or undefined if it is invalid. */
const parsed = computed<Record<string, unknown> | undefined>(() => {
  if (!more.value.trim()) return {}
  try {
    return JSON.parse(more.value) as Record<string, unknown>
  } catch {
    return undefined
  }
})
const body = computed(() => ({
  source: source.value ?? '',
  groups: groups.value,
  attributes: {
    ...(title.value ? { title: title.value } : {}),
    ...(department.value ? { [ENTERPRISE]: { department: department.value } } : {}),
    ...parsed.value,
  },
}))
const expected = useQuery({
  queryKey: computed(() => ['expected', body.value]),
  enabled: computed(() => source.value !== null && parsed.value !== undefined),
  retry: false,
  queryFn: () => answered(api.POST('/api/v1/access/simulate', { body: body.value })),
})
</script>

<template>
  <div class="form">
    <div class="row">
      <v-autocomplete v-model="source" :items="sources" label="Source" />
      <GroupSelect v-model="groups" :source="source" label="in the groups" several />
    </div>
    <div class="row">
      <v-text-field v-model="department" label="Department" />
      <v-text-field v-model="title" label="Title" />
    </div>
    <v-textarea
      v-model="more"
      label="More attributes, or a complete SCIM User, as JSON"
      hint="A request's body can be pasted as it is."
      persistent-hint
      rows="2"
      auto-grow
      :error-messages="parsed === undefined ? 'This is not valid JSON.' : []"
    />
    <ErrorMessage :wrong="expected.error.value" />
    <table v-if="expected.data.value?.items.length" class="plain" aria-label="Simulated access">
      <thead>
        <tr>
          <th scope="col">Application</th>
          <th scope="col">Role</th>
          <th scope="col">Reason</th>
          <th scope="col">Account</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in expected.data.value.items" :key="`${each.application.key} ${each.role.key}`">
          <td>
            <router-link :to="`/applications/${each.application.key}`">{{
              each.application.label
            }}</router-link>
          </td>
          <td>
            <b>{{ each.role.label }}</b>
          </td>
          <td>
            <div v-for="reason in each.reasons" :key="reason">{{ reason }}</div>
          </td>
          <td>{{ each.account ?? 'not provisioned' }}</td>
        </tr>
      </tbody>
    </table>
    <EmptyState v-else-if="expected.data.value" title="No access">
      {{
        expected.data.value.active
          ? 'No group, rule or policy would give this user a role.'
          : 'Inactive users have no access.'
      }}
    </EmptyState>
  </div>
</template>
