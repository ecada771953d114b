<script setup lang="ts">
// How users get access: sources, groups, roles and applications; each box links to its page.
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { laidOut, type Placed, type Ribbon } from './flow'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'
import TimeLabel from '../../components/TimeLabel.vue'

const flow = useQuery({
  queryKey: ['flow'],
  queryFn: () => answered(api.GET('/api/v1/overview/flow')),
  refetchInterval: 8000,
})
const frame = useTemplateRef<HTMLElement>('frame')
const width = ref(1160)
const bar = 12
const row = 22
/** High enough for the labels of the stage with the most boxes. */
const height = computed(() => {
  const counts = ['source', 'group', 'role', 'application'].map(
    (stage) => flow.data.value?.nodes.filter((node) => node.stage === stage).length ?? 0,
  )
  return Math.max(170, Math.max(...counts) * (row + 8))
})
const picture = computed(() =>
  flow.data.value ? laidOut(flow.data.value, width.value - 190, height.value, bar, row - 6) : null,
)
const lit = ref<string | null>(null)
const isLit = (each: Ribbon) => lit.value === each.from.node.id || lit.value === each.to.node.id

let watching: ResizeObserver | undefined
onMounted(() => {
  watching = new ResizeObserver(([entry]) => (width.value = Math.max(760, entry?.contentRect.width ?? 0)))
  if (frame.value) watching.observe(frame.value)
})
onBeforeUnmount(() => watching?.disconnect())

function place(node: Schemas['FlowNode']): string {
  if (node.kind === 'source') return node.key ? `/sources/${node.key}` : '/sources'
  if (node.kind === 'group') return node.key ? `/groups/${node.key}` : '/groups?mapped=yes'
  if (node.kind === 'role')
    return node.key ? `/access/matrix?application=${node.application}&role=${node.key}` : '/access'
  if (node.kind === 'application') return node.key ? `/applications/${node.key}` : '/applications'
  return '/access/list'
}
const shown = ({ label }: { label: string }) => (label.length > 22 ? `${label.slice(0, 21)}…` : label)
/** What is read aloud: the words that are seen, and the whole name where they are cut. */
const words = ({ node }: Placed) =>
  `${shown(node)} ${node.users.toLocaleString('en')}${shown(node) === node.label ? '' : `, ${node.label}`}`
const heads = ['Sources', 'Groups and other assignments', 'Roles', 'Applications']
</script>

<template>
  <section class="panel" aria-labelledby="flow">
    <h2 id="flow">How users get access</h2>
    <ErrorMessage :wrong="flow.error.value" />
    <div ref="frame" class="scroll">
      <template v-if="picture && flow.data.value?.nodes.length">
        <svg :width="width" :height="height + 26" role="group" aria-label="Access flow">
          <text
            v-for="(head, number) in heads"
            :key="head"
            :x="number * ((width - 190 - bar) / 3)"
            y="13"
            class="head"
          >
            {{ head }}
          </text>
          <g transform="translate(0, 26)">
            <path
              v-for="each in picture.ribbons"
              :key="each.from.node.id + each.to.node.id"
              :d="each.path"
              :stroke-width="each.width"
              class="ribbon"
              :class="{ lit: isLit(each) }"
            >
              <title>
                {{ each.from.node.label }} to {{ each.to.node.label }}: {{ each.users.toLocaleString('en') }}
              </title>
            </path>
            <router-link
              v-for="each in picture.placed"
              :key="each.node.id"
              :to="place(each.node)"
              class="place"
              :aria-label="words(each)"
              @mouseenter="lit = each.node.id"
              @mouseleave="lit = null"
              @focus="lit = each.node.id"
              @blur="lit = null"
            >
              <rect
                :x="each.x"
                :y="each.y"
                :width="bar"
                :height="each.height"
                class="bar"
                :class="each.node.stage"
              />
              <text :x="each.x + bar + 7" :y="each.y + each.height / 2 + 4.5" class="word">
                {{ shown(each.node) }}
                <tspan class="number" dx="4">{{ each.node.users.toLocaleString('en') }}</tspan>
              </text>
            </router-link>
          </g>
        </svg>
        <p class="quiet note">
          The width of a band is the number of users. A user with several roles is in several bands. Counted
          <TimeLabel :at="flow.data.value.at" />.
        </p>
      </template>
      <EmptyState v-else-if="flow.data.value" title="No user has access yet">
        Assign a role to a group, a rule or a user to see here how users get access.
      </EmptyState>
    </div>
  </section>
</template>

<style scoped>
.head {
  font-size: 13px;
  fill: rgb(var(--v-theme-rest));
}
.ribbon {
  fill: none;
  stroke: rgb(var(--v-theme-primary));
  stroke-opacity: 0.2;
}
.ribbon:hover,
.ribbon.lit {
  stroke-opacity: 0.5;
}
.bar {
  fill: rgb(var(--v-theme-primary));
}
.bar.group {
  fill: rgb(var(--v-theme-well));
}
.bar.role {
  fill: rgb(var(--v-theme-look));
}
.bar.application {
  fill: rgb(var(--v-theme-rest));
}
.scroll .place {
  text-decoration: none;
}
.word {
  font-size: 13.5px;
  fill: rgb(var(--v-theme-on-surface));
  paint-order: stroke;
  stroke: rgb(var(--v-theme-surface));
  stroke-width: 4px;
  stroke-linejoin: round;
}
.number {
  font-family: var(--mono, monospace);
  font-size: 12.5px;
}
.place:hover .word,
.place:focus-visible .word {
  text-decoration: underline;
}
.note {
  margin: 8px 0 0;
  font-size: 13px;
}
</style>
