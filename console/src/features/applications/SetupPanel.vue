<script setup lang="ts">
// The setup checklist of an application: for its administrator, what is missing here, and what traffic verified.
import { mdiFileDownloadOutline } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { answered, api, type Schemas } from '../../api/client'
import { save as saveFile } from '../../app/files'
import ChecklistStatus from '../../components/ChecklistStatus.vue'
import ChecklistValues from '../../components/ChecklistValues.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const checklist = useQuery({
  queryKey: ['applications', props.application.key, 'checklist'],
  queryFn: () =>
    answered(
      api.GET('/api/v1/applications/{key}/checklist', { params: { path: { key: props.application.key } } }),
    ),
  refetchInterval: 4000,
})
/** Downloads the checklist, to send to the administrator of the application. */
function save(): void {
  const text = checklist.data.value?.text
  if (text) saveFile(`${props.application.key}-checklist.txt`, text, 'text/plain')
}
</script>

<template>
  <ErrorMessage :wrong="checklist.error.value" />
  <div v-if="checklist.data.value" class="sides">
    <section aria-labelledby="verified">
      <h2 id="verified">Setup checklist</h2>
      <template v-if="checklist.data.value.missing.length">
        <h3>To do here</h3>
        <ul class="todo">
          <li v-for="each in checklist.data.value.missing" :key="each.message">
            <StatusLabel status="to do" />
            <span
              >{{ each.message }} <span class="quiet">{{ each.hint }}</span></span
            >
          </li>
        </ul>
      </template>
      <div v-for="each in checklist.data.value.trouble" :key="each.at" class="trouble">
        <TimeLabel :at="each.at" />: {{ each.message }}
      </div>
      <h3>Verified by traffic</h3>
      <ChecklistStatus :ticks="checklist.data.value.ticks" />
    </section>
    <section v-if="checklist.data.value.give.length" aria-labelledby="give">
      <h2 id="give">For the administrator of the application</h2>
      <ChecklistValues :values="checklist.data.value.give" />
      <h3>What you need from there</h3>
      <ul>
        <li v-for="each in checklist.data.value.get" :key="each">{{ each }}</li>
      </ul>
      <v-btn variant="outlined" class="save" :prepend-icon="mdiFileDownloadOutline" @click="save">
        Download as text
      </v-btn>
    </section>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  gap: 28px;
  grid-template-columns: repeat(auto-fit, minmax(min(420px, 100%), 1fr));
}
h3 {
  font-size: 15px;
  margin: 12px 0 4px;
}
ul {
  margin: 0;
  padding-left: 20px;
}
.todo {
  list-style: none;
  padding: 0;
}
.todo li {
  align-items: start;
  display: grid;
  gap: 10px;
  grid-template-columns: 70px 1fr;
  padding: 3px 0;
}
.trouble {
  border-left: 4px solid rgb(var(--v-theme-failed));
  margin: 8px 0;
  padding-left: 12px;
}
.save {
  margin-top: 14px;
}
</style>
