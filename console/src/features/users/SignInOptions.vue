<script setup lang="ts">
// The sign-in options of a user, the messages they would read, and their applications.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../../api/client'
import ErrorMessage from '../../components/ErrorMessage.vue'
import SignInOptionsTable from './SignInOptionsTable.vue'

const props = defineProps<{ user: string }>()
const params = { path: { user: props.user } }
const found = useQuery({
  queryKey: ['users', props.user, 'ways'],
  queryFn: () => answered(api.GET('/api/v1/users/{user}/sign-in-options', { params })),
  refetchInterval: 5000,
})
const ways = computed(() => found.data.value?.ways ?? [])
/** Sources that allow the user or have a record of the user; the others are collapsed. */
const near = computed(() => ways.value.filter((each) => each.opens || each.bound_at))
const far = computed(() => ways.value.filter((each) => !near.value.includes(each)))
</script>

<template>
  <ErrorMessage :wrong="found.error.value" />
  <section v-if="ways.length" class="panel" aria-labelledby="ways">
    <h2 id="ways">Sign-in options</h2>
    <SignInOptionsTable v-if="near.length" :ways="near" />
    <p v-else class="inside">No source allows this user to sign in.</p>
    <p v-if="near.some((each) => each.opens)" class="inside">
      After sign-in the user sees
      <template v-if="found.data.value?.applications.length">
        <template v-for="(each, place) in found.data.value.applications" :key="each.key"
          ><template v-if="place">, </template
          ><router-link :to="`/applications/${each.key}`">{{ each.label }}</router-link></template
        >.
      </template>
      <template v-else>no applications.</template>
    </p>
    <details v-if="far.length" class="inside">
      <summary>
        {{ near.length ? 'Other sources that' : 'Sources that' }} refuse this user, and why: {{ far.length }}
      </summary>
      <SignInOptionsTable :ways="far" />
    </details>
  </section>
</template>

<style scoped>
.inside {
  margin: 10px 0 0;
}
</style>
