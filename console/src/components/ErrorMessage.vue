<script setup lang="ts">
// An error with its hint.
import { mdiCloseCircleOutline } from '@mdi/js'
import { computed } from 'vue'
import { ApiProblem } from '../api/client'

const props = defineProps<{ wrong: unknown }>()
const told = computed(() =>
  props.wrong instanceof ApiProblem
    ? props.wrong.problem
    : { message: 'The console had an internal error.', hint: 'Reload the page.' },
)
</script>

<template>
  <div v-if="wrong" class="problem" role="alert">
    <v-icon :icon="mdiCloseCircleOutline" size="20" aria-hidden="true" />
    <div>
      <strong>{{ told.message }}</strong>
      <div v-if="told.hint">{{ told.hint }}</div>
    </div>
  </div>
</template>

<style scoped>
.problem {
  display: flex;
  gap: 10px;
  padding: 10px 14px;
  margin-bottom: 14px;
  border-left: 4px solid rgb(var(--v-theme-failed));
  border-radius: 4px;
  background: rgba(var(--v-theme-failed), 0.09);
}
.problem .v-icon {
  color: rgb(var(--v-theme-failed));
}
</style>
