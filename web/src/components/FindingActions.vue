<script setup lang="ts">
import { ref } from 'vue'
import { usePlan } from '../plan'
import { api, words, type Edit, type Schemas } from '../api'

// What can be done about a finding: its fix as edits of the draft, and what is to be done elsewhere than in the plan.
defineProps<{ mend?: Edit[] | null; todo?: Schemas['CheckTodo']; label?: string }>()
const emit = defineEmits<{ refused: [string]; left: []; mended: [] }>()
const plan = usePlan()
const busy = ref(false)

async function apply(mend: Edit[]) {
  const refusal = await plan.edit(mend)
  emit('refused', refusal)
  if (!refusal) emit('mended')
}

async function certify(name: string, dial: string[]) {
  busy.value = true
  const { error } = await api.POST('/api/v1/certificates/{name}', { params: { path: { name } }, body: { for: dial } })
  await plan.look()
  busy.value = false
  emit('refused', error ? words(error) : '')
  if (!error) emit('mended')
}
</script>

<template>
  <v-btn v-if="mend?.length" size="x-small" variant="outlined" class="mr-1" :aria-label="label" @click="apply(mend)">Apply this fix</v-btn>
  <v-btn
    v-if="todo?.what === 'add-person'"
    size="x-small"
    variant="outlined"
    class="mr-1"
    :to="{ path: '/people', query: { add: todo.name } }"
    @click="emit('left')"
    >Add a person to {{ todo.name }}</v-btn
  >
  <v-btn
    v-else-if="todo?.what === 'make-certificate' && todo.for?.length"
    size="x-small"
    variant="outlined"
    class="mr-1"
    :loading="busy"
    @click="certify(todo.name, todo.for)"
    >Make certificate {{ todo.name }} for {{ todo.for.join(', ') }}</v-btn
  >
  <v-btn
    v-else-if="todo?.what === 'keep-secret'"
    size="x-small"
    variant="outlined"
    class="mr-1"
    :to="{ path: '/plan', query: { at: 'trust' } }"
    @click="emit('left')"
    >Keep secret {{ todo.name }}</v-btn
  >
</template>
