<script setup lang="ts">
// The roles, entitlements and groups that the application has, to create roles from.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { keyOf } from '../../app/keys'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const params = { path: { key: props.application.key } }
const found = useQuery({
  queryKey: computed(() => [
    'applications',
    props.application.key,
    'available-roles',
    props.application.connection.checked_at,
    JSON.stringify(props.application.roles),
  ]),
  queryFn: () => answered(api.GET('/api/v1/applications/{key}/available-roles', { params })),
})
// Stays open while roles are created one after another.
const openAtFirst = !props.application.roles.length
/** Where roles are sent comes first; another attribute may be the right one. */
const items = computed(() => {
  const all = found.data.value?.items ?? []
  const first = found.data.value?.attribute
  return [
    ...all.filter((each) => each.attribute === first),
    ...all.filter((each) => each.attribute !== first),
  ]
})
const missing = computed(() => found.data.value?.missing ?? [])
const { wrong, busy, attempt } = useAttempts()
/** Creates a role that is sent as a value; the rank is above those of the others. */
const create = (each: Schemas['AvailableRole']) =>
  attempt(async () => {
    const ranks = props.application.roles.map((role) => role.rank)
    const key = keyOf(each.label || each.value)
    const body = {
      key,
      label: each.label || each.value,
      rank: Math.min(1000, Math.max(0, ...ranks) + 10),
      sent_value: each.value === key ? '' : each.value,
    }
    await answered(api.POST('/api/v1/applications/{key}/roles', { params, body }))
  })
</script>

<template>
  <details v-if="found.data.value?.seen_at" class="available" :open="openAtFirst">
    <summary>
      In the application: {{ items.length }} {{ items.length === 1 ? 'value' : 'values' }}
      <span class="quiet"
        >(read <TimeLabel :at="found.data.value.seen_at" /><template v-if="!found.data.value.complete"
          >, a sample of its accounts</template
        >)</span
      >
    </summary>
    <ErrorMessage :wrong="wrong" />
    <p v-if="missing.length" role="note">
      The application lists no value of: {{ missing.join(', ') }}. Check the values that are sent.
    </p>
    <table v-if="items.length" class="plain" aria-label="Values in the application">
      <thead>
        <tr>
          <th scope="col">Attribute</th>
          <th scope="col">Value</th>
          <th scope="col">Name</th>
          <th scope="col">Accounts</th>
          <th scope="col">Role</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in items" :key="`${each.attribute} ${each.value}`">
          <td>{{ each.attribute }}</td>
          <td class="mono">{{ each.value }}</td>
          <td>{{ each.label }}</td>
          <td>{{ each.accounts.toLocaleString('en') }}</td>
          <td>
            <template v-if="each.role">{{ each.role }}</template>
            <v-btn
              v-else-if="each.attribute === found.data.value.attribute"
              size="small"
              variant="text"
              :disabled="busy"
              :aria-label="`Create role ${each.value}`"
              @click="create(each)"
              >Create role</v-btn
            >
            <span v-else class="quiet">not used for roles</span>
          </td>
        </tr>
      </tbody>
    </table>
  </details>
</template>

<style scoped>
.available {
  margin-top: 12px;
}
summary {
  cursor: pointer;
}
table {
  max-width: 960px;
}
</style>
