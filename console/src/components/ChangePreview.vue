<script setup lang="ts">
// What a change would do: counts, then the users, before and after in one row.
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { csvOf, save } from '../app/files'
import StatusLabel from './StatusLabel.vue'

const props = defineProps<{ preview: Schemas['Preview'] }>()
// The typed name that confirms a serious change.
const confirm = defineModel<string>('confirm', { default: '' })
const most = 200
const all = computed(() => props.preview.gained + props.preview.lost + props.preview.changed)
function keep(): void {
  const head = ['user', 'user name', 'application', 'change', 'before', 'after', 'highest role']
  const rows = props.preview.users.map((line) => [
    line.user.display_name,
    line.user.user_name,
    line.application.label,
    line.what,
    line.before.join('; '),
    line.after.join('; '),
    line.highest ? 'yes' : 'no',
  ])
  save('preview.csv', csvOf([head, ...rows]))
}
</script>

<template>
  <div class="preview" role="status">
    <div class="counts">
      <span
        ><b>{{ preview.gained.toLocaleString('en') }}</b> gain access</span
      >
      <span
        ><b>{{ preview.lost.toLocaleString('en') }}</b> lose access</span
      >
      <span
        ><b>{{ preview.changed.toLocaleString('en') }}</b> change roles</span
      >
      <span
        ><b>{{ preview.unchanged.toLocaleString('en') }}</b> unchanged</span
      >
      <span
        ><b>{{ preview.accounts.toLocaleString('en') }}</b> account changes</span
      >
    </div>
    <p v-for="each in preview.seats" :key="each.application.key + each.plan.key">
      <StatusLabel v-if="each.wait" status="waiting" />
      {{ each.asked.toLocaleString('en') }} need a seat in {{ each.plan.label }}:
      <template v-if="each.free === null">seats are not limited.</template>
      <template v-else>{{ each.free.toLocaleString('en') }} free</template>
      <template v-if="each.wait"
        >, so <b>{{ each.wait.toLocaleString('en') }}</b> are put on the waiting list.</template
      >
    </p>
    <div
      v-if="preview.users.length"
      class="scroll list"
      role="group"
      aria-label="Users whose roles change"
      tabindex="0"
    >
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">User</th>
            <th v-if="!preview.application" scope="col">Application</th>
            <th scope="col">Roles before</th>
            <th scope="col">Roles after</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in preview.users.slice(0, most)" :key="line.user.id + line.application.key">
            <td>{{ line.user.display_name }}</td>
            <td v-if="!preview.application">{{ line.application.label }}</td>
            <td>{{ line.before.join(', ') || 'none' }}</td>
            <td>
              {{ line.after.join(', ') || 'none' }}
              <StatusLabel v-if="line.highest" status="highest_role" />
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="quiet foot">
      Nothing has been changed yet.
      <template v-if="all > most"> Shows the first {{ most }} of {{ all.toLocaleString('en') }}.</template>
      <v-btn v-if="preview.users.length" size="small" variant="text" color="primary" @click="keep"
        >Download CSV</v-btn
      >
      <template v-if="all > preview.users.length"
        >(the first {{ preview.users.length.toLocaleString('en') }})</template
      >
    </p>
    <div v-if="preview.confirm" class="serious">
      <p><StatusLabel status="serious" /> {{ preview.confirm }}</p>
      <v-text-field
        v-model="confirm"
        :label="`Type ${preview.type_to_confirm} to confirm`"
        autocomplete="off"
      />
    </div>
  </div>
</template>

<style scoped>
.preview {
  border: 1px solid rgb(var(--v-theme-line));
  border-radius: 6px;
  padding: 10px 14px;
}
.serious {
  margin-top: 8px;
  padding: 8px 12px 12px;
  border-left: 4px solid rgb(var(--v-theme-failed));
  background: rgba(var(--v-theme-failed), 0.08);
}
.serious p {
  margin-bottom: 8px;
}
.counts {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
}
.counts b {
  font-size: 18px;
}
.foot {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 2px 10px;
}
.list {
  max-height: 230px;
  overflow-y: auto;
  margin-top: 8px;
}
p {
  margin: 8px 0 0;
}
</style>
