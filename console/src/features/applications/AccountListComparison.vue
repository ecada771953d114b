<script setup lang="ts">
// Compares the desired accounts with a CSV export of the application's accounts.
import { computed, reactive, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { csvOf, encoded, save } from '../../app/files'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const file = ref<File | null>(null)
const found = ref<Schemas['ListComparison'] | null>(null)
const headings = reactive({ user_name: '', email: '', roles: '', active: '' })
const labels = {
  user_name: 'Column with user names',
  email: 'Column with email addresses',
  roles: 'Column with roles',
  active: 'Column with the status',
} as const
const most = 200
const { wrong, busy, attempt } = useAttempts()
watch(open, (now) => {
  if (!now) return
  file.value = null
  found.value = null
  wrong.value = null
})
async function compare(mark: boolean): Promise<void> {
  const chosen = file.value
  if (!chosen) return
  await attempt(async () => {
    const body = {
      content: await encoded(chosen),
      columns: Object.fromEntries(Object.entries(headings).filter(([, heading]) => heading)),
      mark_done: mark,
    }
    const params = { path: { key: props.application.key } }
    found.value = await answered(
      api.POST('/api/v1/applications/{key}/manual-tasks/comparison', { params, body }),
    )
  })
}
const used = computed(() => Object.values(found.value?.columns ?? {}).join(', '))
const words = {
  missing: 'missing',
  unexpected: 'without a user',
  roles: 'other roles',
  status: 'other status',
}
function keep(): void {
  const rows = (found.value?.items ?? []).map((each) => [
    words[each.kind],
    each.name,
    each.desired,
    each.listed,
    String(each.line ?? ''),
  ])
  save('differences.csv', csvOf([['difference', 'account', 'desired', 'in the list', 'line'], ...rows]))
}
</script>

<template>
  <FormDialog
    v-model="open"
    title="Compare with a list of accounts"
    :act="found ? 'Compare again' : 'Compare'"
    :wrong="wrong"
    :busy="busy"
    wide
    @done="compare(false)"
  >
    <p class="quiet">
      Export the accounts of {{ application.label }} there as CSV. Dravo recognizes usual column names.
    </p>
    <v-file-input v-model="file" label="CSV file" accept=".csv,text/csv,text/plain" prepend-icon="" />
    <details>
      <summary>Column names</summary>
      <v-text-field
        v-for="(label, name) in labels"
        :key="name"
        v-model="headings[name]"
        :label="label"
        autocomplete="off"
      />
    </details>
    <div v-if="found" class="result" role="status">
      <p>
        {{ found.read.toLocaleString('en') }} {{ found.read === 1 ? 'account' : 'accounts' }} read (columns:
        {{ used }}). <b>{{ (found.counts.same ?? 0).toLocaleString('en') }}</b> are as they should be,
        <template v-for="(label, kind) in words" :key="kind">
          <b>{{ (found.counts[kind] ?? 0).toLocaleString('en') }}</b> {{ label
          }}{{ kind === 'status' ? '.' : ', ' }}
        </template>
      </p>
      <p v-for="each in found.bad_lines.slice(0, 5)" :key="each.line">
        <StatusLabel status="warning" /> Line {{ each.line }} was left out. {{ each.message }} {{ each.hint }}
      </p>
      <div
        v-if="found.items.length"
        class="scroll list"
        role="group"
        aria-label="Accounts that differ"
        tabindex="0"
      >
        <table class="plain">
          <thead>
            <tr>
              <th scope="col">Difference</th>
              <th scope="col">Account</th>
              <th scope="col">Desired</th>
              <th scope="col">In the list</th>
              <th scope="col">Line</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="each in found.items.slice(0, most)" :key="`${each.kind} ${each.name} ${each.line}`">
              <td>{{ words[each.kind] }}</td>
              <td>{{ each.name }}</td>
              <td>{{ each.desired }}</td>
              <td>{{ each.listed }}</td>
              <td>{{ each.line }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <div class="row">
        <v-btn v-if="found.items.length" size="small" variant="text" @click="keep">Download CSV</v-btn>
        <v-btn
          v-if="found.can_be_marked"
          size="small"
          variant="outlined"
          :disabled="busy"
          @click="compare(true)"
          >Mark {{ found.can_be_marked }} as done</v-btn
        >
        <span v-if="found.can_be_marked" class="quiet">The list shows that these tasks are done.</span>
        <span v-if="found.marked"
          >{{ found.marked.toLocaleString('en') }} {{ found.marked === 1 ? 'task' : 'tasks' }} marked as
          done.</span
        >
      </div>
    </div>
  </FormDialog>
</template>

<style scoped>
.list {
  max-height: 260px;
  overflow-y: auto;
}
details {
  margin-bottom: 12px;
}
summary {
  cursor: pointer;
  margin-bottom: 10px;
}
.result .row {
  align-items: center;
  display: flex;
  gap: 12px;
  margin: 8px 0;
}
</style>
