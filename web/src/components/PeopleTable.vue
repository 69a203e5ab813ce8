<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, words, type Schemas } from '../api'

const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ taken: [] }>()
type Table = Schemas['PeopleTable']
const text = ref('')
const newWords = ref(false)
const found = ref<Table>()
const problem = ref('')
const only = ref('')
const busy = ref(false)

async function read(file: File | File[] | null) {
  const one = Array.isArray(file) ? file[0] : file
  if (one) text.value = await one.text()
  found.value = undefined
}

async function look(take: boolean) {
  busy.value = true
  const { data, error } = await api.POST('/api/v1/users-table', { body: { table: text.value, take, 'new-words': newWords.value } })
  busy.value = false
  problem.value = error ? words(error) : ''
  found.value = data
  if (data?.taken) emit('taken')
}

const lines = computed(() => {
  const all = found.value?.lines ?? []
  return (only.value ? all.filter((l) => l.does === only.value) : all).slice(0, 1000)
})
const counts = computed(() => {
  const t = found.value
  if (!t) return []
  return [
    { does: 'add', n: t.added },
    { does: 'change', n: t.changed },
    { does: 'same', n: t.same },
    { does: 'refused', n: t.refused },
  ]
})
const made = computed(() => (found.value?.lines ?? []).filter((l) => l.password))

function save(name: string, content: string) {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([content], { type: 'text/csv' }))
  a.download = name
  a.click()
  URL.revokeObjectURL(a.href)
}

async function exported() {
  const { data, error } = await api.GET('/api/v1/users-table')
  if (data) save('people.csv', data.table)
  problem.value = error ? words(error) : ''
}
</script>

<template>
  <v-dialog v-model="open" max-width="900" scrollable>
    <v-card title="People as a table">
      <v-card-text>
        <p class="mb-3">
          CSV; the first line names columns: <code>user, full-name, mail, groups, off, until, hours, sessions, tunnels</code>. Groups are
          separated by semicolons. Columns that are left out, and people who are not named, stay as they are.
          <v-btn size="small" variant="text" @click="exported">Save those that there are</v-btn>
        </p>
        <v-file-input label="A file" accept=".csv,text/csv" density="compact" variant="outlined" @update:model-value="read" />
        <v-textarea
          id="table-text"
          v-model="text"
          label="Or its text"
          rows="5"
          variant="outlined"
          class="mono"
          @update:model-value="found = undefined"
        />
        <v-checkbox
          v-model="newWords"
          density="compact"
          label="Also groups, hours and tunnels that the running plan does not have"
          hide-details
        />
        <v-alert v-if="problem" type="error" variant="tonal" class="my-3" role="alert">{{ problem }}</v-alert>
        <template v-if="found">
          <v-alert
            :type="found.refused ? 'error' : found.taken ? 'success' : 'info'"
            variant="tonal"
            density="compact"
            class="my-3"
            role="status"
          >
            {{
              found.taken
                ? 'Taken.'
                : found.refused
                  ? `${found.refused} ${found.refused === 1 ? 'line' : 'lines'} will not do, so nothing can be taken.`
                  : 'Every line will do; nothing is changed yet.'
            }}
          </v-alert>
          <v-alert v-if="made.length" type="warning" variant="tonal" density="compact" class="mb-3">
            {{ made.length }} passwords were made. They are told here alone.
            <v-btn
              id="save-passwords"
              size="small"
              variant="outlined"
              @click="save('passwords.csv', ['user,password', ...made.map((l) => `${l.user},${l.password}`), ''].join('\n'))"
              >Save them</v-btn
            >
          </v-alert>
          <v-chip-group v-model="only">
            <v-chip v-for="c in counts" :key="c.does" :value="c.does" size="small" filter>{{ c.n }} {{ c.does }}</v-chip>
          </v-chip-group>
          <v-table density="compact">
            <thead>
              <tr>
                <th>Line</th>
                <th>User</th>
                <th>Does</th>
                <th>What</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="l in lines" :key="l.line">
                <td>{{ l.line }}</td>
                <td>
                  <b>{{ l.user }}</b>
                </td>
                <td :class="{ 'text-error': l.does === 'refused' }">{{ l.does }}</td>
                <td>{{ l.words }}</td>
              </tr>
            </tbody>
          </v-table>
        </template>
      </v-card-text>
      <v-card-actions>
        <v-btn @click="open = false">Close</v-btn>
        <v-spacer />
        <v-btn id="look" variant="outlined" :loading="busy" :disabled="!text" @click="look(false)">Look at it</v-btn>
        <v-btn
          id="take"
          color="primary"
          variant="flat"
          :loading="busy"
          :disabled="!found || found.taken || found.refused > 0"
          @click="look(true)"
          >Take it</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.mono :deep(textarea) {
  font-family: var(--mono, monospace);
}
</style>
