<script setup lang="ts">
// The license plans of an application with their seats.
import { reactive, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import ErrorMessage from '../../components/ErrorMessage.vue'
import EditLicensePlan from './EditLicensePlan.vue'
import SeatCount from './SeatCount.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const path = { key: props.application.key }
const { wrong, attempt } = useAttempts()
const plan = reactive({ key: '', label: '', rank: 10, seats: '' })
/** The typed number of seats; empty for no limit. */
const number = (typed: string | number) => (String(typed).trim() === '' ? null : Number(typed))
const add = () =>
  attempt(async () => {
    const body = { key: plan.key, label: plan.label, rank: Number(plan.rank), seats: number(plan.seats) }
    await answered(api.POST('/api/v1/applications/{key}/license-plans', { params: { path }, body }))
    plan.key = plan.label = plan.seats = ''
  })
const remove = (key: string) =>
  attempt(() =>
    answered(
      api.DELETE('/api/v1/applications/{key}/license-plans/{plan}', {
        params: { path: { ...path, plan: key } },
      }),
    ),
  )
const editing = ref<Schemas['Plan'] | null>(null)
</script>

<template>
  <section aria-labelledby="plans">
    <h2 id="plans">License plans</h2>
    <p class="quiet">
      For applications licensed per user: an assignment can include a license plan. When no seats are left,
      new users are put on the waiting list.
    </p>
    <ErrorMessage :wrong="wrong" />
    <table v-if="application.plans.length" class="plain plans">
      <thead>
        <tr>
          <th scope="col">Plan</th>
          <th scope="col">Key</th>
          <th scope="col">Rank</th>
          <th scope="col">Sent as</th>
          <th scope="col">Seats</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in application.plans" :key="each.key">
          <td>
            {{ each.label }}
            <div v-if="each.description" class="quiet">{{ each.description }}</div>
          </td>
          <td class="mono">{{ each.key }}</td>
          <td>{{ each.rank }}</td>
          <td class="mono">{{ each.sent_value ?? each.key }}</td>
          <td><SeatCount :plan="each" :application="application.key" /></td>
          <td>
            <v-btn size="small" variant="text" :aria-label="`Edit plan ${each.label}`" @click="editing = each"
              >Edit</v-btn
            >
            <v-btn
              size="small"
              variant="text"
              :aria-label="`Delete plan ${each.label}`"
              @click="remove(each.key)"
              >Delete</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <form class="row" aria-label="Create license plan" @submit.prevent="add">
      <v-text-field v-model="plan.key" label="Plan key" class="narrow" />
      <v-text-field v-model="plan.label" label="Plan name" class="narrow" />
      <v-text-field v-model="plan.rank" label="Rank" type="number" class="small" />
      <v-text-field
        v-model="plan.seats"
        label="Seats (empty: unlimited)"
        type="number"
        min="0"
        class="narrow"
      />
      <v-btn type="submit" variant="outlined">Create plan</v-btn>
    </form>
    <EditLicensePlan v-model="editing" :application="application" />
  </section>
</template>

<style scoped>
.plans {
  max-width: 900px;
  margin-bottom: 12px;
}
.narrow {
  flex: 0 1 200px;
}
.small {
  flex: 0 1 110px;
}
</style>
