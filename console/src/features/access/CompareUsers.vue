<script setup lang="ts">
// Compares the access and groups of two users; differences come first.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { answered, api } from '../../api/client'
import { useAddressFilter } from '../../app/addressFilters'
import EmptyState from '../../components/EmptyState.vue'
import UserSelect from '../../components/UserSelect.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const one = useAddressFilter('one')
const two = useAddressFilter('two')
const chosen = (filter: typeof one) =>
  computed({ get: () => filter.value ?? null, set: (now) => (filter.value = now ?? undefined) })
const first = chosen(one)
const second = chosen(two)
const found = useQuery({
  queryKey: computed(() => ['compare', one.value, two.value]),
  enabled: computed(() => Boolean(one.value && two.value)),
  queryFn: () =>
    answered(
      api.GET('/api/v1/access/compare', {
        params: { query: { one: one.value ?? '', two: two.value ?? '' } },
      }),
    ),
})
const data = computed(() => found.data.value)
const groups = computed(() => {
  const those = (inside: boolean[]) =>
    data.value?.groups.filter((each) => each.sides.join() === inside.join()) ?? []
  return [those([true, false]), those([false, true]), those([true, true])]
})
</script>

<template>
  <div class="row filters">
    <UserSelect v-model="first" label="First user" class="words" />
    <UserSelect v-model="second" label="Second user" class="words" />
  </div>
  <ErrorMessage :wrong="found.error.value" />
  <template v-if="data && one && two">
    <table class="plain">
      <caption class="visually-hidden">
        Access of both users
      </caption>
      <thead>
        <tr>
          <th scope="col">Application</th>
          <th scope="col"><span class="visually-hidden">Difference</span></th>
          <th v-for="(each, number) in data.users" :key="number" scope="col">
            <router-link :to="`/users/${each.id}`">{{ each.display_name }}</router-link>
            <div class="mono quiet">
              {{ each.user_name }} <StatusLabel v-if="each.status !== 'active'" :status="each.status" />
            </div>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in data.applications" :key="each.application.key">
          <td>
            <router-link :to="`/applications/${each.application.key}`">{{
              each.application.label
            }}</router-link>
          </td>
          <td><StatusLabel :status="each.same ? 'same' : 'differs'" /></td>
          <td v-for="(side, number) in each.sides" :key="number">
            <div v-for="has in side" :key="has.role">
              <b>{{ has.role }}</b> <span class="quiet">{{ has.because.join('; ') }}</span>
            </div>
            <span v-if="!side.length" class="quiet">no access</span>
          </td>
        </tr>
        <tr v-if="!data.applications.length">
          <td colspan="4" class="quiet">Neither user has access to an application.</td>
        </tr>
      </tbody>
    </table>
    <div class="three">
      <section v-for="(some, number) in groups" :key="number">
        <h2>
          {{ number === 2 ? 'Groups of both users' : `Groups of ${data.users[number]?.display_name} only` }}
        </h2>
        <ul v-if="some.length">
          <li v-for="each in some" :key="each.group.id">
            <router-link :to="`/groups/${each.group.id}`">{{ each.group.name }}</router-link>
            <span class="quiet">&nbsp;{{ each.source?.label }}</span>
          </li>
        </ul>
        <p v-else class="quiet">none</p>
      </section>
    </div>
  </template>
  <EmptyState v-else title="Compare two users">
    Choose two users to see their access side by side, with the reason for each role.
  </EmptyState>
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 6px 28px;
  margin-top: 18px;
}
.three h2 {
  font-size: 16px;
}
.three ul {
  margin: 0;
  padding-left: 18px;
}
</style>
