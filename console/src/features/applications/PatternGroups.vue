<script setup lang="ts">
// Groups that match a pattern, their roles, and which are confirmed for the highest role.
import type { Schemas } from '../../api/client'
import StatusLabel from '../../components/StatusLabel.vue'

defineProps<{ groups: Schemas['PatternGroup'][] }>()
const confirmed = defineModel<string[]>({ required: true })
</script>

<template>
  <div
    v-if="groups.length"
    class="scroll list"
    role="group"
    aria-label="Groups that match the pattern"
    tabindex="0"
  >
    <table class="plain">
      <thead>
        <tr>
          <th scope="col">Group</th>
          <th scope="col">Role</th>
          <th scope="col">Confirmed</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in groups" :key="each.group.id">
          <td>
            {{ each.group.name }}
            <div class="mono quiet">{{ each.group.external_id || each.group.id }}</div>
          </td>
          <td>
            <StatusLabel :status="each.outcome" />
            <div>
              {{ each.role ?? `'${each.captured}'` }}
              <span v-if="each.role && each.by !== 'key'" class="quiet">
                by its {{ each.by }} '{{ each.captured }}'
              </span>
            </div>
          </td>
          <td>
            <v-checkbox
              v-if="each.outcome === 'needs_confirmation' || confirmed.includes(each.group.id)"
              v-model="confirmed"
              :value="each.group.id"
              :aria-label="`Confirm ${each.group.name} for the highest role`"
              hide-details
              density="compact"
            />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.list {
  max-height: 220px;
  overflow-y: auto;
}
</style>
