<script setup lang="ts">
// What is set for the whole house: the time zone, and how long things are kept.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref, watch } from 'vue'
import { answered, api, type Schemas } from '../../api/client'
import { askAgain } from '../../app/session'
import ErrorMessage from '../../components/ErrorMessage.vue'

defineProps<{ changeable?: boolean }>()
const queries = useQueryClient()
const wrong = ref<unknown>(null)
const kept = ref(false)
const typed = ref<Record<string, number | string>>({})
const settings = useQuery({ queryKey: ['settings'], queryFn: () => answered(api.GET('/api/v1/settings')) })
watch(
  () => settings.data.value,
  (found) => (typed.value = Object.fromEntries((found?.items ?? []).map((each) => [each.name, each.value]))),
  { immediate: true },
)
function hintOf(each: Schemas['Setting']): string {
  if (each.kind === 'time zone') return 'A name such as Europe/Lisbon; days that were given move with it'
  if (each.kind === 'text') return ''
  const [least, most, usual] = [each.least, each.most, each.default].map((value) => value.toLocaleString('en'))
  return `From ${least} to ${most}; usually ${usual}`
}
async function keep(): Promise<void> {
  wrong.value = null
  kept.value = false
  try {
    for (const each of settings.data.value?.items ?? []) {
      const value = each.kind === 'number' ? Number(typed.value[each.name]) : String(typed.value[each.name]).trim()
      if (value === each.value) continue
      await answered(api.PUT('/api/v1/settings/{name}', { params: { path: { name: each.name } }, body: { value } }))
    }
    await queries.invalidateQueries()
    // What was set may be for whoever sets it too.
    await askAgain()
    kept.value = true
  } catch (problem) {
    wrong.value = problem
  }
}
</script>

<template>
  <section class="panel" aria-labelledby="kept">
    <h2 id="kept">For the whole house</h2>
    <ErrorMessage :wrong="wrong ?? settings.error.value" />
    <form v-if="settings.data.value" class="form" aria-label="For the whole house" @submit.prevent="keep">
      <div class="fields">
        <v-text-field
          v-for="each in settings.data.value.items"
          :key="each.name"
          v-model="typed[each.name]"
          :type="each.kind === 'number' ? 'number' : 'text'"
          :label="each.label"
          :hint="hintOf(each)"
          persistent-hint
          :readonly="!changeable"
        />
      </div>
      <div v-if="changeable" class="row">
        <v-btn type="submit" variant="outlined">Keep these</v-btn>
        <span v-if="kept" role="status">Kept.</span>
      </div>
    </form>
  </section>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(440px, 100%), 1fr));
  gap: 10px 20px;
}
</style>
