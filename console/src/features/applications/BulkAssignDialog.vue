<script setup lang="ts">
// Maps several groups at once: each line is checked, and the effect of all lines is previewed.
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { confirmationOf } from '../../app/assignments'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import ChangePreview from '../../components/ChangePreview.vue'
import StatusLabel from '../../components/StatusLabel.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const text = ref('')
const looked = ref<Schemas['Bulk'] | null>(null)
const { wrong, busy, attempt } = useAttempts()
const typed = ref('')
const usable = computed(
  () => looked.value !== null && looked.value.lines.every((line) => line.status !== 'invalid'),
)
watch(text, () => (looked.value = null))

async function send(): Promise<void> {
  const apply = usable.value
  const body = {
    text: text.value,
    apply,
    ...(apply ? confirmationOf(looked.value?.preview ?? undefined, typed.value) : {}),
  }
  const path = { key: props.application.key }
  const done = await attempt(async () => {
    looked.value = await answered(
      api.POST('/api/v1/applications/{key}/mapping/bulk', { params: { path }, body }),
    )
  })
  if (!done || !apply) return
  open.value = false
  text.value = ''
  emit('done')
}

async function take(files: File | File[] | null): Promise<void> {
  const file = Array.isArray(files) ? files[0] : files
  if (file) text.value = await file.text()
}
</script>

<template>
  <FormDialog
    v-model="open"
    title="Map several groups"
    :act="usable ? 'Map groups' : 'Preview'"
    :wrong="wrong"
    :busy="busy"
    wide
    @done="send"
  >
    <v-textarea
      v-model="text"
      label="One line per mapping: source, group, role"
      placeholder="staff, Herbarium, recorder"
      persistent-placeholder
      hint="Group name or ID, role key. Separate with commas, semicolons or tabs; you can paste from a spreadsheet."
      persistent-hint
      rows="5"
      class="mono"
    />
    <v-file-input label="Or choose a CSV file" accept=".csv,text/csv,text/plain" @update:model-value="take" />
    <div v-if="looked" class="scroll list" role="status" tabindex="0">
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">Line</th>
            <th scope="col">Group</th>
            <th scope="col">Role</th>
            <th scope="col">Status</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in looked.lines" :key="line.number">
            <td>{{ line.number }}</td>
            <td>
              {{ line.group }} <span class="quiet">{{ line.source }}</span>
            </td>
            <td>{{ line.role }}</td>
            <td>
              <StatusLabel :status="line.status" />
              <div v-if="line.message">{{ line.message }}</div>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <ChangePreview v-if="looked?.preview" v-model:confirm="typed" :preview="looked.preview" />
  </FormDialog>
</template>

<style scoped>
.list {
  max-height: 240px;
  overflow-y: auto;
}
</style>
