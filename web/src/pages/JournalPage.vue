<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'
import { api, words, type Event } from '../api'

const events = ref<Event[]>([])
const kind = ref('all')
const filter = ref('')
const problem = ref('')
const kinds = ['all', 'login', 'refused', 'ended', 'rule', 'commit', 'reach', 'record', 'trust']
let waiting = 0

async function load() {
  const { data, error } = await api.GET('/api/v1/journal', {
    params: { query: { kind: kind.value === 'all' ? undefined : kind.value, text: filter.value || undefined, limit: 300 } },
  })
  events.value = data ?? []
  problem.value = error ? words(error) : ''
}
onMounted(load)
watch(kind, load)
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
}
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Journal</h1>
      <v-spacer />
      <v-btn-toggle v-model="kind" mandatory density="compact" variant="outlined">
        <v-btn v-for="k in kinds" :key="k" :value="k" size="small">{{ k }}</v-btn>
      </v-btn-toggle>
      <v-text-field v-model="filter" label="Search all lines" max-width="240" clearable />
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
          </tr>
        </thead>
        <tbody>
          <tr v-for="(e, i) in events" :key="i">
            <td class="mono">{{ new Date(e.time).toLocaleString() }}</td>
            <td :class="{ 'text-bad': e.kind === 'refused' }">{{ signs[e.kind] ?? e.kind }}</td>
            <td>{{ e.user }}</td>
            <td class="mono">{{ e.from }}</td>
            <td>
              {{ e.words }}
              <div v-if="e.offered">
                <small>offered: {{ e.offered }}<br />wanted: {{ e.wanted }}</small>
              </div>
              <small v-if="e.code" class="mono"> {{ e.code }}</small>
            </td>
          </tr>
          <tr v-if="!events.length">
            <td colspan="5">{{ filter ? 'No line has that text.' : 'Nothing is written here yet.' }}</td>
          </tr>
        </tbody>
      </table>
    </v-card>
  </div>
</template>
