<script setup lang="ts">
// What the guard holds: how many removals for which application, for whom, and what a person does about it.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { useAttempts } from '../../app/actions'
import { useSession } from '../../app/session'
import FormDialog from '../../components/FormDialog.vue'
import StatusLabel from '../../components/StatusLabel.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const props = defineProps<{ application?: string }>()
const { session } = useSession()
const guard = useQuery({
  queryKey: ['guard'],
  // It is told of the whole house: an application owner is not asked.
  enabled: computed(() => session.value?.applications === null),
  queryFn: () => answered(api.GET('/api/v1/holds')),
  refetchInterval: 4000,
})
const items = computed(
  () =>
    guard.data.value?.items.filter((each) => !props.application || each.application.key === props.application) ?? [],
)
const opened = ref<Schemas['GuardItem'] | null>(null)
const open = ref(false)
const dropping = ref(false)
const typed = ref('')
const mayRelease = computed(() => session.value?.permissions.includes('guard.release'))
const { wrong, busy, attempt } = useAttempts()
function ask(item: Schemas['GuardItem'], drop: boolean): void {
  opened.value = item
  dropping.value = drop
  typed.value = ''
  wrong.value = null
  open.value = true
}
async function act(): Promise<void> {
  const params = { path: { key: opened.value?.application.key ?? '' } }
  const body = { confirm: typed.value }
  const done = await attempt(() =>
    dropping.value
      ? answered(api.POST('/api/v1/holds/{key}/discard', { params, body }))
      : answered(api.POST('/api/v1/holds/{key}/approve', { params, body })),
  )
  if (done) open.value = false
}
</script>

<template>
  <section
    v-for="item in items"
    :key="item.application.key"
    class="held"
    :aria-label="`Held: ${item.application.label}`"
  >
    <div class="row top">
      <p class="grow">
        <StatusLabel state="held" />
        <b>{{ item.number.toLocaleString('en') }}</b> {{ item.number === 1 ? 'removal' : 'removals' }} for
        <router-link :to="`/applications/${item.application.key}`">{{ item.application.label }}</router-link>
        since <TimeLabel :at="item.since" />. {{ item.message }}
      </p>
      <template v-if="mayRelease">
        <v-btn size="small" variant="outlined" @click="ask(item, false)">Look, and let through</v-btn>
        <v-btn size="small" variant="text" @click="ask(item, true)">Drop</v-btn>
      </template>
    </div>
  </section>
  <FormDialog
    v-model="open"
    :title="
      opened ? `${dropping ? 'Drop' : 'Let through'} ${opened.number} removals for ${opened.application.label}?` : ''
    "
    :act="dropping ? 'Drop them' : 'Let them through'"
    :wrong="wrong"
    :busy="busy"
    grave
    wide
    @done="act"
  >
    <p v-if="dropping">These accounts stay there as they are, until something about them changes.</p>
    <p v-else>What is taken away there then:</p>
    <div class="scroll list" role="group" aria-label="Held removals" tabindex="0">
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Account to become</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="each in opened?.people" :key="each.person.id">
            <td>
              <router-link :to="`/users/${each.person.id}`">{{ each.person.display_name }}</router-link>
            </td>
            <td>{{ each.aim }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="opened && opened.number > opened.people.length">
      and {{ (opened.number - opened.people.length).toLocaleString('en') }} more:
      <router-link :to="`/provisioning/tasks?state=held&application=${opened.application.key}`"
        >all of them</router-link
      >
    </p>
    <v-text-field v-model="typed" :label="`Type ${opened?.application.label} to confirm`" autocomplete="off" />
  </FormDialog>
</template>

<style scoped>
.held {
  padding: 8px 14px;
  margin-bottom: 10px;
  border-left: 4px solid rgb(var(--v-theme-look));
  border-radius: 4px;
  background: rgba(var(--v-theme-look), 0.08);
}
.top {
  align-items: center;
}
.grow {
  flex: 1;
  margin: 0;
}
.list {
  max-height: 300px;
  overflow-y: auto;
}
</style>
