<script setup lang="ts">
// Previews a change, then applies exactly what was previewed, or nothing.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../api/client'
import { confirmationOf, type Confirmation } from '../app/assignments'
import { useAttempts } from '../app/actions'
import { usePaused } from '../app/debounce'
import { stopPreviews } from '../api/client'
import FormDialog from './FormDialog.vue'
import ChangePreview from './ChangePreview.vue'

const props = defineProps<{
  title: string
  act: string
  /** The values that the preview depends on; null while they are incomplete. */
  about: unknown
  look: () => Promise<Schemas['Preview']>
  carryOut: (said: Confirmation) => Promise<unknown>
  serious?: boolean
}>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const typed = ref('')
const { wrong, busy, attempt } = useAttempts()
watch(open, () => {
  typed.value = ''
  wrong.value = null
})
const settled = usePaused(() => props.about, 300)
const preview = useQuery({
  queryKey: computed(() => ['preview', props.act, settled.value]),
  enabled: computed(() => Boolean(open.value && settled.value)),
  queryFn: () => {
    stopPreviews()
    return props.look()
  },
  staleTime: 0,
  retry: false,
})
/** The shown preview is out of date. */
const looking = computed(() =>
  Boolean(props.about && (settled.value !== props.about || preview.isFetching.value)),
)
async function carry(): Promise<void> {
  if (looking.value || !props.about) return
  if (await attempt(() => props.carryOut(confirmationOf(preview.data.value, typed.value)))) {
    open.value = false
    emit('done')
  } else await preview.refetch()
}
</script>

<template>
  <FormDialog
    v-model="open"
    :title="title"
    :act="act"
    :wrong="wrong ?? (about ? preview.error.value : null)"
    :busy="busy"
    :waiting="looking"
    :serious="serious"
    wide
    @done="carry"
  >
    <slot />
    <ChangePreview v-if="preview.data.value && about" v-model:confirm="typed" :preview="preview.data.value" />
  </FormDialog>
</template>
