<script setup lang="ts">
// Opens a guide of the documentation.
import { ref } from 'vue'
import GuideDialog from './GuideDialog.vue'

defineProps<{ guide: string }>()
const open = ref(false)
</script>

<template>
  <v-btn variant="text" @click="open = true">Guide</v-btn>
  <GuideDialog v-model="open" :guide="guide" />
</template>
