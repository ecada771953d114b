<script setup lang="ts">
// An expression with its meaning in words, its result for a chosen user, and its errors.
import { computed, ref, watch } from 'vue'
import { answered, api, ApiProblem, type Schemas } from '../api/client'

const props = defineProps<{
  label: string
  attribute?: string
  user?: string | null
  source?: string
  /** Names of attributes that the source has reported; they are offered while typing. */
  names?: string[]
}>()
const text = defineModel<string>({ required: true })
const tried = ref<Schemas['ExpressionResult'] | null>(null)
const wrong = ref<ApiProblem | null>(null)
let timer: ReturnType<typeof setTimeout> | undefined
let asked = 0

watch(
  () => [text.value, props.attribute, props.user],
  () => {
    clearTimeout(timer)
    timer = setTimeout(() => void work(), 200)
  },
  { immediate: true },
)
async function work(): Promise<void> {
  const mine = ++asked
  if (!text.value.trim()) {
    tried.value = wrong.value = null
    return
  }
  try {
    const body = {
      expression: text.value,
      attribute: props.attribute || null,
      user: props.user || null,
      source: props.source ?? null,
    }
    const found = await answered(api.POST('/api/v1/expressions/evaluate', { body }))
    if (mine !== asked) return
    tried.value = found
    wrong.value = null
  } catch (problem) {
    if (mine === asked && problem instanceof ApiProblem) wrong.value = problem
  }
}
const MOST_OFFERED = 8
const typing = ref(false)
/** The name that is being typed at the end of the expression. */
const word = computed(() => /[\w.:/-]*$/.exec(text.value)?.[0] ?? '')
const offered = computed(() => {
  const part = word.value.toLowerCase()
  const fitting = (props.names ?? []).filter(
    (each) => each.toLowerCase().includes(part) && each.toLowerCase() !== part,
  )
  const first = (each: string) => Number(!each.toLowerCase().startsWith(part))
  return fitting.sort((one, other) => first(one) - first(other)).slice(0, MOST_OFFERED)
})
/** Hides the names, unless the focus moves to one of them. */
function leave(event: FocusEvent): void {
  typing.value = (event.currentTarget as HTMLElement).contains(event.relatedTarget as Node | null)
}
function take(name: string): void {
  text.value = text.value.slice(0, text.value.length - word.value.length) + name
}
const position = computed(() => (wrong.value?.problem as { position?: number } | undefined)?.position)
const result = computed(() => {
  const value = tried.value?.result
  if (value === null || value === undefined) return null
  return Array.isArray(value) ? value.map(String).join(' · ') : String(value)
})
</script>

<template>
  <div @focusin="typing = true" @focusout="leave">
    <v-text-field v-model="text" :label="label" class="mono" spellcheck="false" autocomplete="off" />
    <div v-if="typing && offered.length" class="offered" role="group" aria-label="Attributes of the source">
      <!-- The field keeps the focus while a name is chosen. -->
      <v-btn
        v-for="name in offered"
        :key="name"
        size="x-small"
        variant="outlined"
        class="mono"
        @mousedown.prevent
        @click="take(name)"
        >{{ name }}</v-btn
      >
    </div>
    <div class="told" role="status">
      <template v-if="wrong">
        <code v-if="position !== undefined" class="place"
          >{{ text.slice(0, position) }}<mark>{{ text.slice(position, position + 1) || '▁' }}</mark
          >{{ text.slice(position + 1) }}</code
        >
        <div class="failed">{{ wrong.problem.message }} {{ wrong.problem.hint }}</div>
      </template>
      <template v-else-if="!text.trim()"
        ><span class="quiet">Empty: the attribute is not sent.</span></template
      >
      <template v-else-if="tried">
        <div v-if="tried.user">
          <span class="quiet">{{ tried.user.display_name }} gets the value</span>
          <code v-if="result !== null" class="mono result">{{ result }}</code>
          <b v-else class="missing"> no value</b>
        </div>
        <div class="quiet">{{ tried.words }}</div>
      </template>
    </div>
  </div>
</template>

<style scoped>
.offered {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  padding: 6px 4px 0;
}
.offered .v-btn {
  text-transform: none;
}
.told {
  min-height: 22px;
  padding: 3px 4px 0;
  font-size: 14px;
}
.result {
  font-weight: 700;
  padding-left: 6px;
}
.place mark {
  background: rgba(var(--v-theme-failed), 0.25);
  color: inherit;
  border-bottom: 2px solid rgb(var(--v-theme-failed));
}
.failed {
  color: rgb(var(--v-theme-failed));
}
.missing {
  color: rgb(var(--v-theme-look));
}
</style>
