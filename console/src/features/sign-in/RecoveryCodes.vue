<script setup lang="ts">
// New recovery codes, shown only once, until their owner says that they are stored.
import CopyValue from '../../components/CopyValue.vue'
import { save } from '../../app/files'

defineProps<{ codes: string[] }>()
const emit = defineEmits<{ stored: [] }>()
</script>

<template>
  <div class="codes" role="status">
    <strong>Recovery codes (shown only once). Each code signs you in once without the second factor.</strong>
    <div class="columns">
      <CopyValue v-for="each in codes" :key="each" :value="each" name="Recovery code" />
    </div>
    <div class="row">
      <v-btn size="small" variant="outlined" @click="emit('stored')">I have stored them</v-btn>
      <v-btn
        size="small"
        variant="text"
        @click="save('recovery-codes.txt', codes.map((each) => `${each}\n`).join(''), 'text/plain')"
        >Download</v-btn
      >
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(260px, 1fr));
}
.codes {
  display: grid;
  gap: 6px;
  padding: 12px 14px;
  margin: 10px 0;
  border: 1px dashed rgb(var(--v-theme-look));
  border-radius: 6px;
}
</style>
