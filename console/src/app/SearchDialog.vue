<script setup lang="ts">
// Finds users, groups, applications and sources by name, email address, user name, id or external id, from anywhere.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, ApiProblem } from '../api/client'
import { usePaused } from './debounce'
import { useMay } from './session'

const open = defineModel<boolean>({ required: true })
const may = useMay()
const typed = ref('')
const words = usePaused(() => (typed.value ?? '').trim(), 200)
const enabled = computed(() => open.value && words.value.length > 0)
const MOST = 6
watch(open, () => (typed.value = ''))

interface Found {
  kind: string
  title: string
  subtitle: string
  to: string
}
const fits = (...texts: string[]) =>
  texts.some((each) => each.toLowerCase().includes(words.value.toLowerCase()))

/** The user with exactly the typed ID or external ID. */
async function meant(user: string) {
  try {
    return await answered(api.GET('/api/v1/users/{user}', { params: { path: { user } } }))
  } catch (wrong) {
    if (wrong instanceof ApiProblem && wrong.status) return null
    throw wrong
  }
}
const users = useQuery({
  queryKey: ['find', 'users', words],
  enabled,
  queryFn: async (): Promise<Found[]> => {
    const query = { q: words.value, count: MOST }
    const [listed, one] = await Promise.all([
      answered(api.GET('/api/v1/users', { params: { query } })),
      meant(words.value),
    ])
    const found = listed.items.map((each) => ({
      id: each.id,
      kind: 'User',
      title: each.display_name,
      subtitle: each.user_name,
      to: `/users/${each.id}`,
    }))
    if (one && !found.some((each) => each.id === one.id))
      found.unshift({
        id: one.id,
        kind: 'User',
        title: one.display_name,
        subtitle: one.user_name,
        to: `/users/${one.id}`,
      })
    return found
  },
})
const groups = useQuery({
  queryKey: ['find', 'groups', words],
  enabled,
  queryFn: async (): Promise<Found[]> => {
    const query = { q: words.value, count: MOST }
    const listed = await answered(api.GET('/api/v1/groups', { params: { query } }))
    return listed.items.map((each) => ({
      kind: 'Group',
      title: each.name,
      subtitle: each.source?.label ?? 'local',
      to: `/groups/${each.id}`,
    }))
  },
})
const applications = useQuery({
  queryKey: ['find', 'applications', words],
  enabled,
  queryFn: async (): Promise<Found[]> => {
    const listed = await answered(api.GET('/api/v1/applications', { params: { query: { count: 500 } } }))
    const some = listed.items.filter((each) => fits(each.label, each.key)).slice(0, MOST)
    return some.map((each) => ({
      kind: 'Application',
      title: each.label,
      subtitle: each.key,
      to: `/applications/${each.key}`,
    }))
  },
})
const sources = useQuery({
  queryKey: ['find', 'sources', words],
  enabled: computed(() => enabled.value && may('sources.read')),
  queryFn: async (): Promise<Found[]> => {
    const listed = await answered(api.GET('/api/v1/sources', { params: { query: { count: 500 } } }))
    const some = listed.items.filter((each) => fits(each.label, each.key)).slice(0, MOST)
    return some.map((each) => ({
      kind: 'Source',
      title: each.label,
      subtitle: each.key,
      to: `/sources/${each.key}`,
    }))
  },
})
const all = [users, groups, applications, sources]
const found = computed(() => all.flatMap((each) => each.data.value ?? []))
const looking = computed(
  () => all.some((each) => each.isFetching.value) || words.value !== (typed.value ?? '').trim(),
)
</script>

<template>
  <v-dialog v-model="open" max-width="620" aria-label="Search" location="top">
    <v-card class="find">
      <v-text-field
        v-model="typed"
        label="Search users, groups, applications and sources"
        hint="By name, user name, email address, ID or external ID"
        persistent-hint
        autofocus
        clearable
        spellcheck="false"
        @keydown.enter="($event.currentTarget as HTMLElement).closest('.find')?.querySelector('a')?.click()"
      />
      <ul v-if="found.length" class="found">
        <li v-for="each in found" :key="each.to">
          <router-link :to="each.to" @click="open = false">{{ each.title }}</router-link>
          <span class="quiet">{{ each.kind }}</span>
          <span class="quiet mono">{{ each.subtitle }}</span>
        </li>
      </ul>
      <p v-else-if="words" class="quiet" role="status">
        {{ looking ? 'Searching …' : `No results for “${words}”.` }}
      </p>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.find {
  padding: 18px 20px;
}
.found {
  list-style: none;
  margin: 12px 0 0;
  padding: 0;
}
.found li {
  display: grid;
  grid-template-columns: minmax(0, 2fr) 100px minmax(0, 1.4fr);
  gap: 12px;
  padding: 7px 4px;
  border-top: 1px solid rgb(var(--v-theme-line));
}
.found li > * {
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
