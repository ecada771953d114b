<script setup lang="ts">
// The last cells of an assignment row: period, creator and the buttons to edit and unassign.
import type { Schemas } from '../../api/client'
import { what, assignedTo } from '../../app/assignments'
import AssignmentPeriod from '../../components/AssignmentPeriod.vue'
import TimeLabel from '../../components/TimeLabel.vue'

defineProps<{ of: Schemas['Assignment'] }>()
const emit = defineEmits<{ away: []; edit: [] }>()
</script>

<template>
  <td><AssignmentPeriod :of="of" /></td>
  <td>{{ of.created_by }}<br /><TimeLabel :at="of.created_at" /></td>
  <td class="buttons">
    <v-btn
      size="small"
      variant="text"
      :aria-label="`Edit: ${assignedTo(of)}, ${what(of)}`"
      @click="emit('edit')"
    >
      Edit
    </v-btn>
    <v-btn
      size="small"
      variant="outlined"
      :aria-label="`Unassign: ${assignedTo(of)}, ${what(of)}`"
      @click="emit('away')"
    >
      Unassign
    </v-btn>
  </td>
</template>
