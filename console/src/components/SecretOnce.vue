<script setup lang="ts">
// A secret, shown only once, until the operator says that it is stored.
import { ref, watch } from 'vue'
import CopyValue from './CopyValue.vue'

const props = defineProps<{ secret: string; name: string }>()
const stored = ref(false)
watch(
  () => props.secret,
  () => (stored.value = false),
)
</script>

<template>
  <div v-if="!stored" class="secret" role="status">
    <strong>{{ name }} (shown only once)</strong>
    <div><CopyValue :value="secret" :name="name" /></div>
    <div class="row">
      <v-btn size="small" variant="outlined" @click="stored = true">I have stored it</v-btn>
      <span class="quiet">Copy it now. Dravo does not show it again.</span>
    </div>
  </div>
</template>

<style scoped>
.secret {
  padding: 12px 14px;
  margin: 10px 0;
  border: 1px dashed rgb(var(--v-theme-look));
  border-radius: 6px;
}
</style>
