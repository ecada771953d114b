<script setup lang="ts">
// The extension schemas of a source.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { answered, api } from '../../api/client'
import FormDialog from '../../components/FormDialog.vue'
import EmptyState from '../../components/EmptyState.vue'
import ErrorMessage from '../../components/ErrorMessage.vue'

const props = defineProps<{ source: string }>()
const queries = useQueryClient()
const path = { key: props.source }
const schemas = useQuery({
  queryKey: ['sources', props.source, 'schemas'],
  queryFn: () => answered(api.GET('/api/v1/sources/{key}/schemas', { params: { path } })),
})
const adding = ref(false)
const text = ref('')
const kind = ref<'User' | 'Group'>('User')
const wrong = ref<unknown>(null)
const outside = ref<unknown>(null)

async function add(): Promise<void> {
  wrong.value = null
  let document: Record<string, never>
  try {
    document = JSON.parse(text.value) as Record<string, never>
  } catch {
    const { ApiProblem } = await import('../../api/client')
    wrong.value = new ApiProblem(
      {
        code: 'invalid_json',
        message: 'The schema is not valid JSON.',
        hint: 'Paste the complete document, from { to }.',
      },
      0,
    )
    return
  }
  try {
    await answered(
      api.POST('/api/v1/sources/{key}/schemas', { params: { path }, body: { kind: kind.value, document } }),
    )
    adding.value = false
    text.value = ''
    await queries.invalidateQueries()
  } catch (problem) {
    wrong.value = problem
  }
}
async function remove(urn: string): Promise<void> {
  outside.value = null
  try {
    await answered(api.DELETE('/api/v1/sources/{key}/schemas/{urn}', { params: { path: { ...path, urn } } }))
    await queries.invalidateQueries()
  } catch (problem) {
    outside.value = problem
  }
}
const names = (document: Record<string, unknown>) =>
  ((document.attributes as { name: string }[] | undefined) ?? []).map((each) => each.name).join(', ')
const example =
  '{\n  "id": "urn:example:params:scim:schemas:garden:2.0:User",\n  "name": "Garden",\n  "attributes": [{ "name": "badge", "type": "string", "uniqueness": "server" }]\n}'
</script>

<template>
  <section class="panel" aria-labelledby="schemas">
    <div class="row between">
      <h2 id="schemas">Schema extensions</h2>
      <v-btn variant="outlined" @click="((adding = true), (wrong = null))">Add schema</v-btn>
    </div>
    <ErrorMessage :wrong="outside ?? schemas.error.value" />
    <table v-if="schemas.data.value?.items.length" class="plain">
      <thead>
        <tr>
          <th scope="col">URN</th>
          <th scope="col">Resource</th>
          <th scope="col">Attributes</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in schemas.data.value.items" :key="each.urn">
          <td class="mono urn">{{ each.urn }}</td>
          <td>{{ each.kind === 'User' ? 'User' : 'Group' }}</td>
          <td>{{ names(each.document) }}</td>
          <td>
            <v-btn size="small" variant="text" :aria-label="`Remove ${each.name}`" @click="remove(each.urn)"
              >Remove</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <EmptyState v-else-if="schemas.data.value" title="No schema extensions">
      Users and groups can have all attributes of the SCIM core schema. If this source sends others, add their
      schema.
    </EmptyState>
    <FormDialog v-model="adding" title="Add schema" act="Add" :wrong="wrong" wide @done="add">
      <p class="quiet">
        Paste a SCIM schema definition (RFC 7643, section 7). Dravo discards attributes that no schema
        defines.
      </p>
      <v-select
        v-model="kind"
        :items="[
          { title: 'User', value: 'User' },
          { title: 'Group', value: 'Group' },
        ]"
        label="Attributes"
      />
      <v-textarea
        v-model="text"
        label="Schema as JSON"
        :placeholder="example"
        variant="outlined"
        rows="10"
        class="mono"
        hide-details
      />
    </FormDialog>
  </section>
</template>

<style scoped>
.between {
  justify-content: space-between;
}
.urn {
  overflow-wrap: anywhere;
}
</style>
