<script setup lang="ts">
// The organization settings, by group.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { askAgain } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'

defineProps<{ changeable?: boolean }>()
const queries = useQueryClient()
const wrong = ref<unknown>(null)
const kept = ref(false)
const typed = ref<Record<string, boolean | number | string>>({})
const settings = useQuery({ queryKey: ['settings'], queryFn: () => answered(api.GET('/api/v1/settings')) })
watch(
  () => settings.data.value,
  (found) => (typed.value = Object.fromEntries((found?.items ?? []).map((each) => [each.name, each.value]))),
  { immediate: true },
)
const groups = computed(() => {
  const items = settings.data.value?.items ?? []
  return [...new Set(items.map((each) => each.group))].map((group) => ({
    group,
    items: items.filter((each) => each.group === group),
  }))
})
function hintOf(each: Schemas['Setting']): string {
  if (each.kind === 'time_zone')
    return 'A time zone name such as Europe/Lisbon. Existing start and end dates follow it.'
  if (each.kind === 'text') return ''
  const [least, most, usual] = [each.least, each.most, each.default].map((value) =>
    value.toLocaleString('en'),
  )
  return `${least} to ${most} ${each.unit}, default ${usual}`
}
/** The settings whose value was changed, with the new value. */
function changed(): { name: string; label: string; value: number | boolean | string }[] {
  return (settings.data.value?.items ?? []).flatMap((each) => {
    const entered = typed.value[each.name]
    const value =
      each.kind === 'number'
        ? Number(entered)
        : each.kind === 'boolean'
          ? Boolean(entered)
          : String(entered).trim()
    return value === each.value ? [] : [{ name: each.name, label: each.label, value }]
  })
}
const effects = ref<{ label: string; sentences: string[] }[] | null>(null)
watch(typed, () => (effects.value = null), { deep: true })
/** Shows what the changed settings do, before they are saved. */
async function look(): Promise<void> {
  wrong.value = null
  kept.value = false
  try {
    effects.value = await Promise.all(
      changed().map(async ({ name, label, value }) => {
        const call = api.POST('/api/v1/settings/{name}/preview', {
          params: { path: { name } },
          body: { value },
        })
        return { label, sentences: (await answered(call)).effects }
      }),
    )
  } catch (problem) {
    wrong.value = problem
  }
}
async function keep(): Promise<void> {
  wrong.value = null
  try {
    for (const { name, value } of changed())
      await answered(api.PUT('/api/v1/settings/{name}', { params: { path: { name } }, body: { value } }))
    await queries.invalidateQueries()
    // The change can concern this operator too.
    await askAgain()
    effects.value = null
    kept.value = true
  } catch (problem) {
    wrong.value = problem
  }
}
</script>

<template>
  <section class="panel" aria-labelledby="kept">
    <h2 id="kept">Organization settings</h2>
    <ErrorMessage :wrong="wrong ?? settings.error.value" />
    <form
      v-if="settings.data.value"
      class="form"
      aria-label="Organization settings"
      @submit.prevent="effects?.length ? keep() : look()"
    >
      <fieldset v-for="{ group, items } in groups" :key="group">
        <legend>{{ group }}</legend>
        <div class="fields">
          <template v-for="each in items" :key="each.name">
            <v-switch
              v-if="each.kind === 'boolean'"
              v-model="typed[each.name]"
              :label="each.label"
              :readonly="!changeable"
              color="primary"
              hide-details
            />
            <v-text-field
              v-else
              v-model="typed[each.name]"
              :type="each.kind === 'number' ? 'number' : 'text'"
              :label="each.label"
              :suffix="each.unit"
              :hint="hintOf(each)"
              persistent-hint
              :readonly="!changeable"
            />
          </template>
        </div>
      </fieldset>
      <div v-if="effects" role="status">
        <p v-if="!effects.length" class="quiet">No setting was changed.</p>
        <div v-for="each in effects" :key="each.label">
          <b>{{ each.label }}</b>
          <ul>
            <li v-for="sentence in each.sentences" :key="sentence">{{ sentence }}</li>
          </ul>
        </div>
      </div>
      <div v-if="changeable" class="row">
        <v-btn type="submit" variant="outlined">{{ effects?.length ? 'Save changes' : 'Preview' }}</v-btn>
        <span v-if="kept" role="status">Saved.</span>
      </div>
    </form>
  </section>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0 0 18px;
}
legend {
  font-weight: 700;
  margin-bottom: 8px;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(440px, 100%), 1fr));
  gap: 10px 20px;
}
</style>
