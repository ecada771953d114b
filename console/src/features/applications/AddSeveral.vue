<script setup lang="ts">
// Adds several applications at once, one for each template, and leads on to assigning.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import FormDialog from '../../components/FormDialog.vue'
import OwnerSelect from '../../components/OwnerSelect.vue'

const open = defineModel<boolean>({ required: true })
const { wrong, busy, attempt } = useAttempts()
const chosen = ref<string[]>([])
const owner = ref('')
const added = ref<Schemas['AddedApplication'][] | null>(null)
watch(open, (now) => {
  if (!now) return
  chosen.value = []
  owner.value = ''
  added.value = null
  wrong.value = null
})
const templates = useQuery({
  queryKey: ['application-templates'],
  enabled: open,
  queryFn: () => answered(api.GET('/api/v1/application-templates')),
})
const items = computed(() => templates.data.value?.items ?? [])
async function add(): Promise<void> {
  if (added.value) {
    open.value = false
    return
  }
  await attempt(async () => {
    const body = { templates: chosen.value, owner: owner.value || null }
    added.value = (await answered(api.POST('/api/v1/applications/several', { body }))).items
  })
}
</script>

<template>
  <FormDialog
    v-model="open"
    title="Add several applications"
    :act="added ? 'Close' : `Add ${chosen.length || ''}`"
    :wrong="wrong"
    :busy="busy"
    :waiting="!added && !chosen.length"
    @done="add"
  >
    <template v-if="!added">
      <p class="quiet">Each gets the name of its template. You enter the addresses later.</p>
      <div class="templates" role="group" aria-label="Templates">
        <v-checkbox
          v-for="each in items"
          :key="each.key"
          v-model="chosen"
          :value="each.key"
          :label="each.label"
          :hint="each.description"
          persistent-hint
          density="compact"
        />
      </div>
      <OwnerSelect v-model="owner" />
    </template>
    <ul v-else class="added" role="status">
      <li v-for="each in added" :key="each.template">
        <template v-if="each.application">
          <b>{{ each.application.label }}</b> is added:
          <router-link :to="`/applications/${each.application.key}/mapping`">assign roles</router-link>,
          <router-link :to="`/applications/${each.application.key}/setup`">setup checklist</router-link>
        </template>
        <template v-else>
          <b>{{ each.template }}</b>: {{ each.message }} <span class="quiet">{{ each.hint }}</span>
        </template>
      </li>
    </ul>
  </FormDialog>
</template>

<style scoped>
.templates {
  margin-bottom: 12px;
  max-height: 320px;
  overflow-y: auto;
}
.added {
  margin: 0 0 12px;
  padding-left: 20px;
}
</style>
