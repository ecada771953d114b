<script setup lang="ts">
// Extension schemas of a source: what it may send beside the standard attributes.
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
        message: 'What stands here is not JSON.',
        hint: 'Paste the whole document, from { to }.',
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
      <h2 id="schemas">Schemas beside the standard ones</h2>
      <v-btn variant="outlined" @click="((adding = true), (wrong = null))">Add a schema</v-btn>
    </div>
    <ErrorMessage :wrong="outside ?? schemas.error.value" />
    <table v-if="schemas.data.value?.items.length" class="plain">
      <thead>
        <tr>
          <th scope="col">URN</th>
          <th scope="col">Of</th>
          <th scope="col">Attributes</th>
          <th scope="col"><span class="visually-hidden">Remove</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in schemas.data.value.items" :key="each.urn">
          <td class="mono urn">{{ each.urn }}</td>
          <td>{{ each.kind === 'User' ? 'people' : 'groups' }}</td>
          <td>{{ names(each.document) }}</td>
          <td>
            <v-btn size="small" variant="text" :aria-label="`Remove ${each.name}`" @click="remove(each.urn)"
              >Remove</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <EmptyState v-else-if="schemas.data.value" title="None">
      People and groups may have all attributes of the standard. If this source sends others too, add their schema.
    </EmptyState>
    <FormDialog v-model="adding" title="Add a schema" act="Add the schema" :wrong="wrong" wide @done="add">
      <p class="quiet">Paste the schema as SCIM describes it (RFC 7643, section 7). Unknown attributes are dropped.</p>
      <v-select
        v-model="kind"
        :items="[
          { title: 'Of people', value: 'User' },
          { title: 'Of groups', value: 'Group' },
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
