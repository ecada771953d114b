<script setup lang="ts">
// A rule over user attributes, built by picking or as text, with the users who match now.
import { mdiPlus } from '@mdi/js'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api } from '../../api/client'
import { usePaused } from '../../app/debounce'
import ErrorMessage from '../../components/ErrorMessage.vue'

const rule = defineModel<string>({ required: true })

const attributes = [
  { title: 'Department', value: 'department' },
  { title: 'Division', value: 'division' },
  { title: 'Organization', value: 'organization' },
  { title: 'Cost center', value: 'costCenter' },
  { title: 'Title', value: 'title' },
  { title: 'User type', value: 'userType' },
  { title: 'User name', value: 'userName' },
  { title: 'First name', value: 'givenName' },
  { title: 'Last name', value: 'familyName' },
  { title: 'Manager (ID)', value: 'manager' },
  { title: 'Email', value: 'emails.value' },
  { title: 'Source (key)', value: 'source' },
  { title: 'Group (ID)', value: 'groups.value' },
]
const operators = [
  { title: 'is', value: 'eq' },
  { title: 'is not', value: 'ne' },
  { title: 'starts with', value: 'sw' },
  { title: 'ends with', value: 'ew' },
  { title: 'contains', value: 'co' },
]
const joined = [
  { title: 'and', value: 'and' },
  { title: 'or', value: 'or' },
]
const attribute = ref('department')
const operator = ref('eq')
const value = ref('')
const by = ref('and')

/** Appends the picked condition; the text can still be edited. */
function add(): void {
  const picked = `${attribute.value} ${operator.value} ${JSON.stringify(value.value)}`
  const before = rule.value.trim()
  rule.value = before ? `${before} ${by.value} ${picked}` : picked
  value.value = ''
}

const asked = usePaused(() => rule.value.trim(), 350)
const reached = useQuery({
  queryKey: computed(() => ['rule', asked.value]),
  enabled: computed(() => asked.value !== ''),
  placeholderData: keepPreviousData,
  retry: false,
  queryFn: () => answered(api.POST('/api/v1/rules/matches', { body: { rule: asked.value } })),
})
const shown = computed(() => (asked.value && !reached.error.value ? reached.data.value : undefined))
</script>

<template>
  <div class="picking">
    <v-select v-if="rule.trim()" v-model="by" :items="joined" label="Joined by" class="join" />
    <v-select v-model="attribute" :items="attributes" label="Attribute" />
    <v-select v-model="operator" :items="operators" label="Comparison" />
    <v-text-field v-model="value" label="Value" @keydown.enter.prevent="add" />
    <v-btn variant="outlined" :prepend-icon="mdiPlus" :disabled="!value" @click="add">Add</v-btn>
  </div>
  <v-textarea
    v-model="rule"
    label="Rule"
    hint="A SCIM filter over user attributes. Build it above or type it; and, or, not (…) and parentheses are allowed."
    persistent-hint
    rows="2"
    auto-grow
    class="rule"
  />
  <ErrorMessage :wrong="asked ? reached.error.value : null" />
  <p v-if="shown" class="reach" role="status">
    Matches <b>{{ shown.matching_users.toLocaleString('en') }}</b>
    {{ shown.matching_users === 1 ? 'user' : 'users'
    }}<template v-if="shown.users.length"
      >: {{ shown.users.map((each) => each.display_name).join(', ')
      }}<template v-if="shown.matching_users > shown.users.length">
        and {{ (shown.matching_users - shown.users.length).toLocaleString('en') }} more</template
      ></template
    >.
  </p>
</template>

<style scoped>
.picking {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr)) auto;
  gap: 10px;
  align-items: start;
}
.picking:has(.join) {
  grid-template-columns: 100px repeat(3, minmax(0, 1fr)) auto;
}
.picking .v-btn {
  margin-top: 2px;
}
.rule :deep(textarea) {
  font-family: var(--mono, monospace);
}
.reach {
  margin: 0;
  max-height: 92px;
  overflow-y: auto;
}
@media (max-width: 640px) {
  .picking,
  .picking:has(.join) {
    grid-template-columns: 1fr;
  }
}
</style>
