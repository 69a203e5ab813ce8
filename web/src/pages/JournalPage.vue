<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'
import { api, words, type Event } from '../api'

const events = ref<Event[]>([])
const kind = ref('all')
const filter = ref('')
const code = ref('')
const problem = ref('')
const kinds = ['all', 'login', 'refused', 'ended', 'rule', 'commit', 'reach', 'record', 'trust', 'name', 'machine', 'equipment', 'change']
let waiting = 0

async function load() {
  const { data, error } = await api.GET('/api/v1/journal', {
    params: {
      query: {
        kind: kind.value === 'all' ? undefined : kind.value,
        text: filter.value || undefined,
        code: code.value || undefined,
        limit: 300,
      },
    },
  })
  events.value = data ?? []
  problem.value = error ? words(error) : ''
}
onMounted(load)
watch([kind, code], load)
watch(filter, () => {
  window.clearTimeout(waiting)
  waiting = window.setTimeout(load, 250)
})

const signs: Record<string, string> = {
  login: '● login',
  refused: '▲ refused',
  ended: '○ ended',
  rule: '■ rule',
  commit: '◆ commit',
  reach: '◇ reach',
  record: '◉ record',
  trust: '◆ trust',
  name: '◆ name',
  machine: '▲ machine',
}
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center flex-wrap ga-4 mb-3">
      <h1>Journal</h1>
      <v-spacer />
      <v-btn-toggle v-model="kind" mandatory density="compact" variant="outlined">
        <v-btn v-for="k in kinds" :key="k" :value="k" size="small">{{ k }}</v-btn>
      </v-btn-toggle>
      <v-chip v-if="code" id="only-code" closable size="small" @click:close="code = ''">{{ code }}</v-chip>
      <v-text-field v-model="filter" label="Search all lines" min-width="160" max-width="240" clearable />
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" role="alert">{{ problem }}</v-alert>
    <v-card>
      <table class="plain">
        <thead>
          <tr>
            <th>Time</th>
            <th>What</th>
            <th>User</th>
            <th>Seen at</th>
            <th>In words</th>
            <th>Reason</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(e, i) in events" :key="i">
            <td class="mono one-line">{{ new Date(e.time).toLocaleString() }}</td>
            <td class="one-line" :class="{ 'text-bad': e.kind === 'refused' }">{{ signs[e.kind] ?? e.kind }}</td>
            <td>{{ e.user }}</td>
            <td class="mono">{{ e.from }}</td>
            <td>
              {{ e.words }}
              <div v-if="e.with?.offered">
                <small>offered: {{ e.with.offered }}<br />wanted: {{ e.with.wanted }}</small>
              </div>
              <small v-if="e.with?.notify" class="mono"> {{ e.with.notify }}</small>
            </td>
            <td>
              <v-btn
                v-if="e.code"
                size="x-small"
                variant="text"
                class="mono code"
                :aria-label="`only ${e.code}`"
                @click="code = code ? '' : e.code"
                >{{ e.code }}</v-btn
              >
            </td>
          </tr>
          <tr v-if="!events.length">
            <td colspan="6">{{ filter || code ? 'No line is like that.' : 'Nothing is written here yet.' }}</td>
          </tr>
        </tbody>
      </table>
    </v-card>
  </div>
</template>

<style scoped>
.one-line {
  white-space: nowrap;
}
/* On a phone the words matter most. */
@media (max-width: 700px) {
  th:nth-child(4),
  td:nth-child(4),
  th:nth-child(6),
  td:nth-child(6) {
    display: none;
  }
  .one-line {
    white-space: normal;
  }
}
.code {
  text-transform: none;
  letter-spacing: 0;
}
</style>
