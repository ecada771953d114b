<script setup lang="ts">
// A connection check: each step with its result, and the hint at the step that failed.
import StatusLabel from './StatusLabel.vue'

defineProps<{ check: { steps: { name: string; outcome: string; message: string; hint: string }[] } }>()
</script>

<template>
  <div role="status" aria-label="Connection check">
    <ol class="steps">
      <li v-for="step in check.steps" :key="step.name">
        <StatusLabel :status="step.outcome" />
        <b>{{ step.name }}</b>
        <span
          >{{ step.message }}
          <template v-if="step.hint"><br /><b>How to fix:</b> {{ step.hint }}</template></span
        >
      </li>
    </ol>
  </div>
</template>

<style scoped>
.steps {
  list-style: none;
  margin: 0;
  padding: 0;
}
.steps li {
  display: grid;
  align-items: start;
  grid-template-columns: 110px 110px 1fr;
  gap: 10px;
  padding: 5px 0;
}
</style>
