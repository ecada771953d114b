<script setup lang="ts">
// The accounts that a change of settings would change.
import type { Schemas } from '../../api/client'
import { told } from '../../app/attributeValues'

defineProps<{ preview: Schemas['SettingsPreview'] }>()
const short = (path: string) => (path.startsWith('urn:') ? path.slice(path.lastIndexOf(':') + 1) : path)
</script>

<template>
  <div class="preview" role="status">
    <p>
      <b class="large">{{ preview.changed.toLocaleString('en') }}</b> of
      {{ preview.accounts.toLocaleString('en') }} accounts change<template v-if="!preview.whole">
        (only the first were looked at)</template
      >. <span class="quiet">Nothing is done yet.</span>
    </p>
    <div
      v-if="preview.users.length"
      class="scroll list"
      role="group"
      aria-label="Accounts that change"
      tabindex="0"
    >
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">User</th>
            <th scope="col">Now</th>
            <th scope="col">After the change</th>
            <th scope="col">Difference</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in preview.users" :key="line.user.id">
            <td>{{ line.user.display_name }}</td>
            <td>{{ line.before }}</td>
            <td>{{ line.after }}</td>
            <td>
              <div v-for="change in line.changes" :key="change.attribute">
                <b>{{ short(change.attribute) }}</b>: {{ told(change.before) }} → {{ told(change.after) }}
              </div>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="preview.changed > preview.users.length" class="quiet">
      and {{ (preview.changed - preview.users.length).toLocaleString('en') }} more
    </p>
  </div>
</template>

<style scoped>
.preview {
  border: 1px solid rgb(var(--v-theme-line));
  border-radius: 6px;
  padding: 10px 14px;
}
.large {
  font-size: 18px;
}
.list {
  max-height: 280px;
  overflow-y: auto;
}
p {
  margin: 2px 0 6px;
}
</style>
