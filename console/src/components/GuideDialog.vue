<script setup lang="ts">
// A guide of the documentation beside the page that it is about. Links to other guides open here too.
import { ref, useTemplateRef, watch } from 'vue'
import ErrorMessage from './ErrorMessage.vue'

const props = defineProps<{ guide: string }>()
const open = defineModel<boolean>({ required: true })
const wrong = ref<unknown>(null)
const text = useTemplateRef<HTMLElement>('text')
// The pages that were opened, the present one last.
const trail = ref<string[]>([])

async function show(name: string): Promise<void> {
  try {
    const { pageOf } = await import('../app/guides')
    const html = await pageOf(name)
    wrong.value = null
    // The pages ship with the console, and HTML in them is shown as text.
    if (text.value) text.value.innerHTML = html
    text.value?.scrollIntoView({ block: 'start' })
  } catch (problem) {
    wrong.value = problem
  }
}
function start(): void {
  trail.value = [props.guide]
  void show(props.guide)
}
function back(): void {
  trail.value.pop()
  void show(trail.value.at(-1)!)
}
async function follow(event: MouseEvent): Promise<void> {
  const link = (event.target as HTMLElement).closest('a')
  if (!link) return
  event.preventDefault()
  const { isPage, nameOf } = await import('../app/guides')
  const name = nameOf(link.getAttribute('href') ?? '')
  if (!isPage(name)) return
  trail.value.push(name)
  await show(name)
}
watch(open, (now) => {
  if (!now) trail.value = []
})
</script>

<template>
  <v-dialog v-model="open" max-width="860" aria-label="Guide" scrollable @after-enter="start">
    <v-card class="guide">
      <div class="row">
        <v-btn v-if="trail.length > 1" variant="text" @click="back">Back</v-btn>
        <span class="grow" />
        <v-btn variant="text" @click="open = false">Close</v-btn>
      </div>
      <ErrorMessage :wrong="wrong" />
      <v-card-text class="scroll" tabindex="0">
        <article ref="text" @click="follow" />
      </v-card-text>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.guide {
  padding: 12px 18px;
}
.row {
  display: flex;
}
.grow {
  flex: 1;
}
.scroll {
  padding: 0 4px 12px;
}
article :deep(h1) {
  font-size: 22px;
  margin: 0 0 10px;
}
article :deep(h2) {
  font-size: 17px;
  margin: 18px 0 8px;
}
article :deep(p),
article :deep(ol),
article :deep(ul),
article :deep(table),
article :deep(pre) {
  margin: 0 0 10px;
}
article :deep(ol),
article :deep(ul) {
  padding-left: 24px;
}
article :deep(li) {
  margin-bottom: 6px;
}
article :deep(pre) {
  background: rgb(var(--v-theme-background));
  border: 1px solid rgb(var(--v-theme-line));
  border-radius: 6px;
  overflow-wrap: anywhere;
  padding: 8px 10px;
  white-space: pre-wrap;
}
article :deep(th),
article :deep(td) {
  border-bottom: 1px solid rgb(var(--v-theme-line));
  padding: 4px 10px 4px 0;
  text-align: left;
  vertical-align: top;
}
</style>
