<script setup lang="ts">
// By which ways a person could sign in now, what they would read there, and what they would see inside.
import { useQuery } from '@tanstack/vue-query'
import { answered, api } from '../api/client'
import ProblemNote from './ProblemNote.vue'
import StateMark from './StateMark.vue'
import TimeOf from './TimeOf.vue'

const props = defineProps<{ person: string }>()
const params = { path: { person: props.person } }
const found = useQuery({
  queryKey: ['people', props.person, 'ways'],
  queryFn: () => answered(api.GET('/api/v1/people/{person}/ways', { params })),
  refetchInterval: 5000,
})
</script>

<template>
  <ProblemNote :wrong="found.error.value" />
  <section v-if="found.data.value?.ways.length" class="panel" aria-labelledby="ways">
    <h2 id="ways">When they sign in</h2>
    <table class="plain">
      <thead>
        <tr>
          <th scope="col">By</th>
          <th scope="col">Opens</th>
          <th scope="col">Why, and what they would read</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in found.data.value.ways" :key="each.source.key">
          <td>
            <router-link :to="`/sources/${each.source.key}/sign-in`">{{ each.source.label }}</router-link>
            <div class="quiet">{{ each.protocol }}</div>
          </td>
          <td><StateMark :state="each.opens ? 'opens' : 'closed'" /></td>
          <td>
            <template v-if="each.opens">
              <template v-if="each.bound_at">They are bound to it since <TimeOf :at="each.bound_at" />.</template>
              <template v-else>The first time binds them to it.</template>
            </template>
            <template v-else>
              <div>{{ each.reason }}</div>
              <div>“{{ each.told }}{{ each.whom_to_ask ? ` ${each.whom_to_ask}` : '' }}”</div>
              <div class="quiet">{{ each.mend }}</div>
            </template>
            <div v-if="each.everybody_at" class="quiet">For everybody from <TimeOf :at="each.everybody_at" /></div>
          </td>
        </tr>
      </tbody>
    </table>
    <p class="inside">
      Inside they would see
      <template v-if="found.data.value.applications.length">
        <template v-for="(each, place) in found.data.value.applications" :key="each.key"
          ><template v-if="place">, </template
          ><router-link :to="`/applications/${each.key}`">{{ each.label }}</router-link></template
        >.
      </template>
      <template v-else>no application yet.</template>
    </p>
  </section>
</template>

<style scoped>
.inside {
  margin: 10px 0 0;
}
</style>
