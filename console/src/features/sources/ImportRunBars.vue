<script setup lang="ts">
// The last import runs as bars: changed users and result, newest at the right.
import { computed } from 'vue'
import type { Schemas } from '../../api/client'

const props = defineProps<{ runs: Schemas['ImportRun'][]; chosen?: string }>()
defineEmits<{ choose: [id: string] }>()
const touching = ['new', 'changed', 'back', 'left', 'conflict', 'refused', 'unreadable']
const bars = computed(() => {
  const found = [...props.runs].reverse().map((run) => ({
    run,
    number: run.counts
      .filter((each) => touching.includes(each.name))
      .reduce((sum, each) => sum + each.number, 0),
  }))
  const most = Math.max(1, ...found.map((each) => Math.log10(each.number + 1)))
  return found.map((each) => ({ ...each, height: Math.round((52 * Math.log10(each.number + 1)) / most) + 4 }))
})
const title = (run: Schemas['ImportRun'], number: number) =>
  `${(run.started_at ?? run.requested_at).slice(0, 16).replace('T', ' ')}: ${run.status}${run.preview ? ', preview' : ''}, ${number.toLocaleString('en')} users changed`
</script>

<template>
  <div class="bars" role="group" aria-label="Recent runs, newest on the right">
    <button
      v-for="each in bars"
      :key="each.run.id"
      type="button"
      :class="['bar', each.run.status, { look: each.run.preview, chosen: each.run.id === chosen }]"
      :title="title(each.run, each.number)"
      :aria-label="title(each.run, each.number)"
      @click="$emit('choose', each.run.id)"
    >
      <span :style="{ height: `${each.height}px` }" />
    </button>
    <span class="quiet">users changed in each of the last {{ bars.length }} runs</span>
  </div>
</template>

<style scoped>
.bars {
  display: flex;
  align-items: flex-end;
  gap: 4px;
  padding: 12px 0 2px;
}
.bar {
  display: flex;
  align-items: flex-end;
  width: 24px;
  height: 62px;
  padding: 0 2px;
  border: 0;
  border-bottom: 3px solid transparent;
  background: none;
  cursor: pointer;
}
.bar span {
  display: block;
  width: 100%;
  background: rgb(var(--v-theme-primary));
}
.bar.look span {
  background: none;
  border: 2px dashed rgb(var(--v-theme-primary));
}
.bar.failed span {
  background: rgb(var(--v-theme-failed));
}
.bar.held span,
.bar.stopped span {
  background: rgb(var(--v-theme-look));
}
.bar.chosen {
  border-bottom-color: currentColor;
}
.quiet {
  margin-left: 10px;
}
</style>
