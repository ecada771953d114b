<script setup lang="ts">
// The roles of an application.
import { reactive } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const path = { key: props.application.key }
const role = reactive({ key: '', label: '', rank: 10 })
const { wrong, attempt } = useAttempts()

const add = () =>
  attempt(async () => {
    await answered(
      api.POST('/api/v1/applications/{key}/roles', {
        params: { path },
        body: { ...role, rank: Number(role.rank) },
      }),
    )
    role.key = role.label = ''
    role.rank = Number(role.rank) + 10
  })
const remove = (key: string) =>
  attempt(() =>
    answered(
      api.DELETE('/api/v1/applications/{key}/roles/{role}', { params: { path: { ...path, role: key } } }),
    ),
  )
</script>

<template>
  <section aria-labelledby="roles">
    <h2 id="roles">Roles</h2>
    <ErrorMessage :wrong="wrong" />
    <table v-if="application.roles.length" class="plain roles">
      <thead>
        <tr>
          <th scope="col">Role</th>
          <th scope="col">Key</th>
          <th scope="col">Rank</th>
          <th scope="col">Users</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in application.roles" :key="each.key">
          <td>{{ each.label }}</td>
          <td class="mono">{{ each.key }}</td>
          <td>{{ each.rank }}</td>
          <td>{{ each.users }}</td>
          <td>
            <v-btn
              size="small"
              variant="text"
              :aria-label="`Delete role ${each.label}`"
              @click="remove(each.key)"
              >Delete</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <form class="row" aria-label="Create role" @submit.prevent="add">
      <v-text-field v-model="role.key" label="Role key" class="narrow" />
      <v-text-field v-model="role.label" label="Role name" class="narrow" />
      <v-text-field v-model="role.rank" label="Rank" type="number" class="small" />
      <v-btn type="submit" variant="outlined">Create role</v-btn>
    </form>
  </section>
</template>

<style scoped>
.roles {
  max-width: 760px;
  margin-bottom: 12px;
}
.narrow {
  flex: 0 1 230px;
}
.small {
  flex: 0 1 150px;
}
</style>
