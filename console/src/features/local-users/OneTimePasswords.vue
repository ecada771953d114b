<script setup lang="ts">
// Creates one-time passwords of local users. The dialog closes only when they are stored.
import { computed, ref, watch } from 'vue'
import { answered, api } from '../../api/client'
import { useAttempts } from '../../app/actions'
import BusyButton from '../../components/BusyButton.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import PasswordList from './PasswordList.vue'

const props = defineProps<{ users: { id: string; display_name: string }[] }>()
const open = defineModel<boolean>({ required: true })
const made = ref<{ user_name: string; password: string }[]>([])
const { wrong, busy, attempt } = useAttempts()
watch(open, () => {
  made.value = []
  wrong.value = null
})
const named = computed(() =>
  props.users.length === 1 ? (props.users[0]?.display_name ?? '') : `${props.users.length} users`,
)
const create = () =>
  attempt(async () => {
    const body = { users: props.users.map((each) => each.id) }
    const { items } = await answered(api.POST('/api/v1/one-time-passwords', { body }))
    made.value = items.map((each) => ({ user_name: each.user.user_name, password: each.password }))
  })
const title = computed(() => `One-time passwords for ${named.value}`)
</script>

<template>
  <v-dialog v-model="open" max-width="620" :aria-label="title" :persistent="made.length > 0">
    <v-card class="ask">
      <h2>{{ title }}</h2>
      <ErrorMessage :wrong="wrong" />
      <PasswordList v-if="made.length" :passwords="made" @stored="open = false" />
      <template v-else>
        <p class="quiet">
          Present passwords of these users stop working, and their sessions end. Each new password is shown
          once.
        </p>
        <div class="row">
          <BusyButton color="primary" :busy="busy" @click="create">Create</BusyButton>
          <v-btn variant="text" @click="open = false">Cancel</v-btn>
        </div>
      </template>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.ask {
  padding: 20px 22px;
}
.ask h2 {
  font-size: 19px;
  margin: 0 0 14px;
}
</style>
