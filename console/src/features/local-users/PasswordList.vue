<script setup lang="ts">
// One-time passwords, shown only once, as a list to hand out.
import { csvOf, save } from '../../app/files'
import CopyValue from '../../components/CopyValue.vue'

defineProps<{ passwords: { user_name: string; password: string }[] }>()
const emit = defineEmits<{ stored: [] }>()
</script>

<template>
  <div class="passwords" role="status">
    <strong>One-time passwords (shown only once)</strong>
    <table class="plain" aria-label="One-time passwords">
      <thead>
        <tr>
          <th scope="col">User name</th>
          <th scope="col">One-time password</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in passwords" :key="each.user_name">
          <td class="mono">{{ each.user_name }}</td>
          <td><CopyValue :value="each.password" :name="`Password of ${each.user_name}`" /></td>
        </tr>
      </tbody>
    </table>
    <div class="row">
      <v-btn variant="outlined" @click="emit('stored')">I have stored them</v-btn>
      <v-btn
        variant="text"
        @click="
          save(
            'one-time-passwords.csv',
            csvOf([['user_name', 'password'], ...passwords.map((each) => [each.user_name, each.password])]),
          )
        "
        >Download CSV</v-btn
      >
    </div>
  </div>
</template>

<style scoped>
.passwords {
  display: grid;
  gap: 10px;
  padding: 12px 14px;
  border: 1px dashed rgb(var(--v-theme-look));
  border-radius: 6px;
}
</style>
