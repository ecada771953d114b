<script setup lang="ts">
// The navigation: five stages from sources to provisioning, each with its number and what needs attention.
import { useQuery } from '@tanstack/vue-query'
import {
  mdiAccountCircleOutline,
  mdiHistory,
  mdiMagnify,
  mdiMenu,
  mdiCogOutline,
  mdiWeatherNight,
  mdiWhiteBalanceSunny,
} from '@mdi/js'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'
import { answered, api } from '../api/client'
import { signOut, useSession } from './session'
import { inWords } from './words'
import { keepTheme } from './theme'
import SearchDialog from './SearchDialog.vue'

const route = useRoute()
const router = useRouter()
const theme = useTheme()
const { session } = useSession()
const opened = ref(false)
const finding = ref(false)
/** `/` opens the search, unless a field has the focus. */
function listen(event: KeyboardEvent): void {
  const into = event.target as HTMLElement
  if (event.key !== '/' || event.ctrlKey || event.metaKey || event.altKey) return
  if (into.isContentEditable || into.closest('input, textarea, select, [role=dialog]')) return
  event.preventDefault()
  finding.value = true
}
onMounted(() => window.addEventListener('keydown', listen))
onUnmounted(() => window.removeEventListener('keydown', listen))

const { data } = useQuery({
  queryKey: ['overview'],
  queryFn: () => answered(api.GET('/api/v1/overview')),
  refetchInterval: 4000,
})

const names: Record<string, string> = {
  sources: 'Sources',
  users: 'Users',
  access: 'Access',
  applications: 'Applications',
  tasks: 'Provisioning',
}
const paths: Record<string, string> = { users: '/users', tasks: '/provisioning/tasks' }
const counted: Record<string, string> = { tasks: 'waiting' }
const stages = computed(() =>
  (data.value?.stages ?? Object.keys(names).map((name) => ({ name, count: undefined, needs: 0 }))).filter(
    (each) => session.value?.permissions.includes(`${each.name}.read`) ?? true,
  ),
)
const isDark = computed(() => theme.global.current.value.dark)

function turn(): void {
  const name = isDark.value ? 'light' : 'dark'
  theme.change(name)
  keepTheme(name)
}

async function leave(): Promise<void> {
  if (await signOut()) return
  await router.push('/sign-in')
}
</script>

<template>
  <header class="band">
    <router-link to="/" class="stage wordmark" aria-label="Dravo overview">
      <svg viewBox="0 0 32 32" width="26" height="26" aria-hidden="true">
        <path
          d="M3 10c6 0 6 5 13 5s7-5 13-5M3 20c6 0 6 5 13 5s7-5 13-5"
          fill="none"
          stroke="currentColor"
          stroke-width="3.4"
          stroke-linecap="round"
        />
      </svg>
      <span>Dravo</span>
    </router-link>
    <v-btn
      class="opener"
      :icon="mdiMenu"
      variant="text"
      :aria-expanded="opened"
      aria-label="Main navigation"
      @click="opened = !opened"
    />
    <nav aria-label="Main navigation" :class="['flow', { opened }]">
      <ol>
        <li v-for="(stage, number) in stages" :key="stage.name">
          <router-link
            :to="paths[stage.name] ?? `/${stage.name}`"
            :class="['stage', { lit: route.meta.stage === stage.name }]"
            :aria-current="route.meta.stage === stage.name ? 'page' : undefined"
            @click="opened = false"
          >
            <span class="title">{{ names[stage.name] }}</span>
            <span class="count"
              >{{ stage.count?.toLocaleString('en') ?? '·' }} {{ counted[stage.name] ?? '' }}</span
            >
            <span v-if="stage.needs" class="needs">
              <span class="visually-hidden">needs attention:</span> {{ stage.needs }}
            </span>
          </router-link>
          <svg v-if="number < stages.length - 1" class="run" viewBox="0 0 12 24" aria-hidden="true">
            <path
              d="M3 5l6 7-6 7"
              fill="none"
              stroke="currentColor"
              stroke-width="2"
              stroke-linecap="round"
            />
          </svg>
        </li>
      </ol>
    </nav>
    <div class="end">
      <v-btn
        :icon="mdiMagnify"
        variant="text"
        aria-label="Search"
        title="Search ( / )"
        @click="finding = true"
      />
      <v-btn :icon="mdiHistory" variant="text" to="/activity" aria-label="Activity" title="Activity" />
      <v-btn :icon="mdiCogOutline" variant="text" to="/settings" aria-label="Settings" title="Settings" />
      <v-btn
        :icon="isDark ? mdiWhiteBalanceSunny : mdiWeatherNight"
        variant="text"
        :aria-label="isDark ? 'Light theme' : 'Dark theme'"
        :title="isDark ? 'Light theme' : 'Dark theme'"
        @click="turn"
      />
      <v-menu>
        <template #activator="{ props }">
          <v-btn
            v-bind="props"
            :icon="mdiAccountCircleOutline"
            variant="text"
            :aria-label="`Operator ${session?.name}`"
          />
        </template>
        <v-list>
          <v-list-item :title="session?.name" :subtitle="inWords(session?.kind)" />
          <v-list-item title="Sign out" @click="leave" />
        </v-list>
      </v-menu>
    </div>
    <SearchDialog v-model="finding" />
  </header>
</template>

<style scoped>
.band {
  position: sticky;
  top: 0;
  z-index: 1000;
  display: flex;
  align-items: stretch;
  gap: 8px;
  min-height: 58px;
  padding: 0 14px;
  background: rgb(var(--v-theme-surface));
  box-shadow: inset 0 -1px rgb(var(--v-theme-line));
}
.stage {
  color: inherit;
  text-decoration: none;
}
.wordmark {
  display: flex;
  align-items: center;
  gap: 9px;
  padding: 0 18px 0 6px;
  font-weight: 700;
  font-size: 19px;
  color: rgb(var(--v-theme-primary));
}
.flow {
  flex: 1;
  min-width: 0;
}
.flow ol {
  display: flex;
  height: 100%;
  margin: 0;
  padding: 0;
  list-style: none;
}
.flow li {
  display: flex;
  align-items: center;
}
.run {
  width: 11px;
  height: 22px;
  color: rgb(var(--v-theme-primary));
  opacity: 0.55;
}
.flow .stage {
  position: relative;
  display: grid;
  grid-template-columns: auto auto;
  column-gap: 8px;
  align-content: center;
  height: 100%;
  padding: 0 16px;
}
/* The river runs under all the stages, and rises where one is. */
.flow ol {
  position: relative;
  width: max-content;
}
.flow ol::before {
  content: '';
  position: absolute;
  inset: auto 0 0;
  height: 3px;
  background: rgb(var(--v-theme-primary));
  opacity: 0.28;
}
.flow .stage::after {
  content: '';
  position: absolute;
  inset: auto 0 0;
  height: 3px;
  background: rgb(var(--v-theme-primary));
  opacity: 0;
  transition:
    height 0.15s,
    opacity 0.15s;
}
.flow .stage.lit {
  background: linear-gradient(to top, rgba(var(--v-theme-primary), 0.2), rgba(var(--v-theme-primary), 0.03));
}
.flow .stage.lit::after {
  height: 6px;
  opacity: 1;
}
.flow .stage:hover::after {
  height: 6px;
  opacity: 0.7;
}
.title {
  font-weight: 700;
}
.count {
  grid-row: 2;
  font-size: 13px;
  color: rgb(var(--v-theme-rest));
  font-variant-numeric: tabular-nums;
}
.needs {
  grid-row: 1 / span 2;
  grid-column: 2;
  align-self: center;
  min-width: 22px;
  padding: 1px 6px;
  border-radius: 11px;
  text-align: center;
  font-size: 13px;
  font-weight: 700;
  color: rgb(var(--v-theme-surface));
  background: rgb(var(--v-theme-look));
}
.end {
  display: flex;
  align-items: center;
}
.opener {
  display: none;
  align-self: center;
}
@media (max-width: 900px) {
  .flow .stage {
    padding: 0 8px;
  }
  .wordmark span {
    display: none;
  }
}
@media (max-width: 700px) {
  .opener {
    display: inline-flex;
  }
  .flow {
    display: none;
    position: absolute;
    top: 58px;
    left: 0;
    right: 0;
    background: rgb(var(--v-theme-surface));
    box-shadow: 0 8px 16px rgba(0, 0, 0, 0.2);
  }
  .flow.opened {
    display: block;
  }
  .flow ol {
    flex-direction: column;
    width: 100%;
  }
  .flow .stage {
    width: 100%;
    padding: 10px 20px;
  }
  .flow li {
    width: 100%;
  }
  .run {
    display: none;
  }
  .end {
    margin-left: auto;
  }
}
</style>
