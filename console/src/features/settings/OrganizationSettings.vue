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
async function keep(): Promise<void> {
  wrong.value = null
  kept.value = false
  try {
    for (const each of settings.data.value?.items ?? []) {
      const entered = typed.value[each.name]
      const value =
        each.kind === 'number'
          ? Number(entered)
          : each.kind === 'boolean'
            ? Boolean(entered)
            : String(entered).trim()
      if (value === each.value) continue
      await answered(
        api.PUT('/api/v1/settings/{name}', { params: { path: { name: each.name } }, body: { value } }),
      )
    }
    await queries.invalidateQueries()
    // The change can concern this operator too.
    await askAgain()
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
    <form v-if="settings.data.value" class="form" aria-label="Organization settings" @submit.prevent="keep">
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
      <div v-if="changeable" class="row">
        <v-btn type="submit" variant="outlined">Save</v-btn>
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
