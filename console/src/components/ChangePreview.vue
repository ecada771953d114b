<script setup lang="ts">
// What a change would do: counts, then the people, before and after in one row.
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { csvOf, save } from '../app/files'
import StatusLabel from './StatusLabel.vue'

const props = defineProps<{ preview: Schemas['Preview'] }>()
// The name of what it concerns, typed, where the change is grave.
const confirm = defineModel<string>('confirm', { default: '' })
const most = 200
const all = computed(() => props.preview.gained + props.preview.lost + props.preview.changed)
function keep(): void {
  const head = ['person', 'user name', 'application', 'what', 'before', 'after']
  const rows = props.preview.people.map((line) => [
    line.person.display_name,
    line.person.user_name,
    line.application.label,
    line.what,
    line.before.join('; '),
    line.after.join('; '),
  ])
  save('preview.csv', csvOf([head, ...rows]))
}
</script>

<template>
  <div class="preview" role="status">
    <div class="counts">
      <span
        ><b>{{ preview.gained.toLocaleString('en') }}</b> gain</span
      >
      <span
        ><b>{{ preview.lost.toLocaleString('en') }}</b> lose</span
      >
      <span
        ><b>{{ preview.changed.toLocaleString('en') }}</b> change role</span
      >
      <span
        ><b>{{ preview.unchanged.toLocaleString('en') }}</b> stay as they are</span
      >
      <span
        ><b>{{ preview.accounts.toLocaleString('en') }}</b> accounts change</span
      >
    </div>
    <p v-for="each in preview.seats" :key="each.application.key + each.plan.key">
      <StatusLabel v-if="each.wait" state="waiting" />
      {{ each.asked.toLocaleString('en') }} need a seat of {{ each.plan.label }}:
      <template v-if="each.free === null">there are as many as people.</template>
      <template v-else>{{ each.free.toLocaleString('en') }} free</template>
      <template v-if="each.wait"
        >, so <b>{{ each.wait.toLocaleString('en') }}</b> wait for one.</template
      >
    </p>
    <div
      v-if="preview.people.length"
      class="scroll list"
      role="group"
      aria-label="Users whose roles change"
      tabindex="0"
    >
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th v-if="!preview.application" scope="col">Application</th>
            <th scope="col">Roles before</th>
            <th scope="col">Roles after</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in preview.people.slice(0, most)" :key="line.person.id + line.application.key">
            <td>{{ line.person.display_name }}</td>
            <td v-if="!preview.application">{{ line.application.label }}</td>
            <td>{{ line.before.join(', ') || 'none' }}</td>
            <td>{{ line.after.join(', ') || 'none' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="quiet foot">
      Nothing is done yet.
      <template v-if="all > most"> The first {{ most }} of {{ all.toLocaleString('en') }} are shown.</template>
      <v-btn v-if="preview.people.length" size="small" variant="text" color="primary" @click="keep">Save as CSV</v-btn>
      <template v-if="all > preview.people.length"
        >(the first {{ preview.people.length.toLocaleString('en') }})</template
      >
    </p>
    <div v-if="preview.confirm" class="grave">
      <p><StatusLabel state="grave" /> {{ preview.confirm }}</p>
      <v-text-field v-model="confirm" :label="`Type ${preview.type_to_confirm} to confirm`" autocomplete="off" />
    </div>
  </div>
</template>

<style scoped>
.preview {
  border: 1px solid rgb(var(--v-theme-line));
  border-radius: 6px;
  padding: 10px 14px;
}
.grave {
  margin-top: 8px;
  padding: 8px 12px 12px;
  border-left: 4px solid rgb(var(--v-theme-failed));
  background: rgba(var(--v-theme-failed), 0.08);
}
.grave p {
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
