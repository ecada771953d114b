<script setup lang="ts">
// The match rule of inbound SCIM: which existing user a new record is linked to.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useMay } from '../../app/session'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

type Rule = 'ask' | 'user_name' | 'email'
const props = defineProps<{ source: string }>()
const may = useMay()
const params = { path: { key: props.source } }
const found = useQuery({
  queryKey: ['sources', props.source, 'scim-matching'],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/scim-matching', { params })),
})
const rule = ref<Rule>('ask')
watch(found.data, (now) => now && (rule.value = now.match as Rule), { immediate: true })
const changed = computed(() => found.data.value !== undefined && rule.value !== found.data.value.match)
const effects = useQuery({
  queryKey: computed(() => ['sources', props.source, 'scim-matching', 'preview', rule.value]),
  enabled: changed,
  retry: false,
  queryFn: () =>
    answered(
      api.POST('/api/v1/sources/{key}/scim-matching/preview', { params, body: { match: rule.value } }),
    ),
})
const { wrong, busy, attempt } = useAttempts()
const save = () =>
  attempt(async () => {
    await answered(api.PUT('/api/v1/sources/{key}/scim-matching', { params, body: { match: rule.value } }))
    await found.refetch()
  })
</script>

<template>
  <section class="panel" aria-labelledby="matching">
    <h2 id="matching">Matching</h2>
    <p>
      A new record can belong to a user that another source reports. The rule applies within the email domains
      of this source: {{ found.data.value?.domains.join(', ') || 'none yet' }}.
    </p>
    <ErrorMessage :wrong="found.error.value ?? wrong ?? (changed ? effects.error.value : null)" />
    <v-radio-group v-model="rule" label="Match rule" :readonly="!may('sources.change')" hide-details>
      <v-radio value="ask" label="An operator decides each conflict" />
      <v-radio value="user_name" label="Link to the user with the same user name" />
      <v-radio value="email" label="Link to the user with the same email" />
    </v-radio-group>
    <div v-if="changed && effects.data.value" role="status">
      <p v-for="each in effects.data.value.effects" :key="each">{{ each }}</p>
    </div>
    <BusyButton
      v-if="may('sources.change')"
      class="save"
      color="primary"
      :disabled="!changed || effects.isFetching.value"
      :busy="busy"
      @click="save"
      >Save</BusyButton
    >
  </section>
</template>

<style scoped>
.save {
  margin-top: 12px;
}
</style>
