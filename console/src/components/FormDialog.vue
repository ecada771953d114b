<script setup lang="ts">
import { useTemplateRef } from 'vue'
// A dialog with a form; its values stay until they are saved.
import BusyButton from './BusyButton.vue'
import ErrorMessage from './ErrorMessage.vue'
import JobProgress from './JobProgress.vue'

defineProps<{
  title: string
  act: string
  wrong?: unknown
  busy?: boolean
  waiting?: boolean
  serious?: boolean
  wide?: boolean
}>()
const open = defineModel<boolean>({ required: true })
const form = useTemplateRef<HTMLFormElement>('form')

/** Focuses the first field, unless another one has the focus. */
function ready(): void {
  if (document.activeElement?.matches('input, textarea')) return
  form.value?.querySelector<HTMLElement>('input:not([type=radio]), textarea:not([aria-hidden])')?.focus()
}
const emit = defineEmits<{ done: [] }>()
</script>

<template>
  <v-dialog v-model="open" :max-width="wide ? 760 : 540" :aria-label="title" @after-enter="ready">
    <v-card class="ask">
      <h2>{{ title }}</h2>
      <form ref="form" class="form" @submit.prevent="emit('done')">
        <ErrorMessage :wrong="wrong" />
        <slot />
        <JobProgress v-if="waiting || busy" />
        <div class="row">
          <BusyButton
            type="submit"
            :color="serious ? 'failed' : 'primary'"
            :busy="busy"
            :disabled="waiting"
            >{{ act }}</BusyButton
          >
          <v-btn variant="text" @click="open = false">Cancel</v-btn>
        </div>
      </form>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.ask {
  padding: 20px 22px;
}
.ask h2 {
  font-size: 19px;
  margin: 0 0 14px;
}
</style>
