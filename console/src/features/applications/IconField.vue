<script setup lang="ts">
// Uploads or deletes the icon of an application, at once.
import { ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { encoded } from '../../app/files'
import ApplicationIcon from '../../components/ApplicationIcon.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{ application: Schemas['Application'] }>()
const params = { path: { key: props.application.key } }
const input = ref<HTMLInputElement | null>(null)
const { wrong, busy, attempt } = useAttempts()

async function upload(): Promise<void> {
  const file = input.value?.files?.[0]
  if (!file) return
  await attempt(async () => {
    const body = { image: await encoded(file) }
    await answered(api.PUT('/api/v1/applications/{key}/icon', { params, body }))
  })
  if (input.value) input.value.value = ''
}
const remove = () => attempt(() => answered(api.DELETE('/api/v1/applications/{key}/icon', { params })))
</script>

<template>
  <ErrorMessage :wrong="wrong" />
  <div class="row">
    <ApplicationIcon :application="application" :size="40" />
    <input
      ref="input"
      type="file"
      accept="image/png,image/jpeg,image/webp,image/gif"
      aria-label="Icon file"
      class="visually-hidden"
      tabindex="-1"
      @change="upload"
    />
    <v-btn variant="outlined" size="small" :disabled="busy" @click="input?.click()">Upload icon</v-btn>
    <v-btn v-if="application.icon" variant="text" size="small" :disabled="busy" @click="remove"
      >Delete icon</v-btn
    >
  </div>
</template>

<style scoped>
.row {
  align-items: center;
  display: flex;
  gap: 12px;
}
</style>
