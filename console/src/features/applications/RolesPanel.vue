<script setup lang="ts">
// The roles of an application.
import { reactive, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import ErrorMessage from '../../components/ErrorMessage.vue'
import AvailableRoles from './AvailableRoles.vue'
import EditRole from './EditRole.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const path = { key: props.application.key }
const role = reactive({ key: '', label: '', rank: 10, sent_value: '' })
const editing = ref<Schemas['Role'] | null>(null)
const { wrong, attempt } = useAttempts()

const add = () =>
  attempt(async () => {
    await answered(
      api.POST('/api/v1/applications/{key}/roles', {
        params: { path },
        body: { ...role, rank: Number(role.rank) },
      }),
    )
    role.key = role.label = role.sent_value = ''
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
          <th scope="col">Sent as</th>
          <th scope="col">Users</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in application.roles" :key="each.key">
          <td>
            {{ each.label }}
            <div v-if="each.description" class="quiet permits">{{ each.description }}</div>
          </td>
          <td class="mono">{{ each.key }}</td>
          <td>{{ each.rank }}</td>
          <td class="mono">{{ each.sent_value ?? each.key }}</td>
          <td>{{ each.users }}</td>
          <td>
            <v-btn size="small" variant="text" :aria-label="`Edit role ${each.label}`" @click="editing = each"
              >Edit</v-btn
            >
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
      <v-text-field v-model="role.sent_value" label="Sent as (default: the key)" class="narrow" />
      <v-btn type="submit" variant="outlined">Create role</v-btn>
    </form>
    <AvailableRoles v-if="!application.tracked_only" :application="application" />
    <EditRole v-model="editing" :application="application" />
  </section>
</template>

<style scoped>
.roles {
  max-width: 960px;
  margin-bottom: 12px;
}
.permits {
  max-width: 320px;
  white-space: pre-line;
}
.narrow {
  flex: 0 1 230px;
}
.small {
  flex: 0 1 150px;
}
</style>
