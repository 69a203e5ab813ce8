<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { api, words, type Session } from '../api'

const sessions = ref<Session[]>([])
const filter = ref('')
const problem = ref('')
const loaded = ref(false)
let timer = 0

async function load() {
  const { data, error } = await api.GET('/api/v1/sessions')
  problem.value = error ? words(error) : ''
  if (data) sessions.value = data
  loaded.value = true
}

async function end(s: Session) {
  if (!confirm(`End the session of ${s.user}? Everything that it carries breaks off.`)) return
  const { error } = await api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: s.id } } })
  problem.value = error ? words(error) : ''
  await load()
}

onMounted(() => {
  void load()
  timer = window.setInterval(load, 2000)
})
onUnmounted(() => window.clearInterval(timer))

const shown = computed(() => sessions.value.filter((s) => JSON.stringify(s).toLowerCase().includes(filter.value.toLowerCase())))
const lost = (s: Session) => Object.entries(s.lost ?? {}).map(([station, n]) => `${n} at ${station}`).join(', ')
const size = (n: number) => (n < 1024 ? `${n} B` : n < 1 << 20 ? `${(n / 1024).toFixed(1)} KiB` : `${(n / (1 << 20)).toFixed(1)} MiB`)
const clock = (t: string) => new Date(t).toLocaleTimeString()
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Live sessions</h1>
      <span class="text-medium-emphasis">{{ sessions.length }} now; looks again every two seconds</span>
      <v-spacer />
      <v-text-field v-model="filter" label="Filter" max-width="240" />
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" role="alert">{{ problem }}</v-alert>
    <v-card>
      <table class="plain">
        <thead>
          <tr><th>User</th><th>Passage</th><th>Address</th><th>Seen at</th><th>Since</th><th>Last sign</th><th>Came</th><th>Went</th><th>Lost</th><th></th></tr>
        </thead>
        <tbody>
          <tr v-for="s in shown" :key="s.id">
            <td><b>{{ s.user }}</b><br /><small>{{ s.groups.join(', ') }}</small></td>
            <td>{{ s.passage }}</td>
            <td class="mono">{{ s.addresses.join(' ') }}</td>
            <td class="mono">{{ s.from }}<br /><small>{{ s.behind ? 'behind a translation' : 'directly' }} · {{ s.suite }}</small></td>
            <td>{{ clock(s.since) }}</td>
            <td>{{ s.heard ? clock(s.heard) : '–' }}</td>
            <td>{{ s['in-packets'] }} packets<br /><small>{{ size(s['in-bytes']) }}</small></td>
            <td>{{ s['out-packets'] }} packets<br /><small>{{ size(s['out-bytes']) }}</small></td>
            <td>{{ lost(s) || '–' }}<br /><b v-if="s.words" class="text-bad">▲ {{ s.words }}</b></td>
            <td><v-btn size="small" variant="outlined" @click="end(s)">End</v-btn></td>
          </tr>
          <tr v-if="loaded && !shown.length"><td colspan="10">{{ filter ? 'No session matches.' : 'Nobody is connected.' }}</td></tr>
        </tbody>
      </table>
    </v-card>
  </div>
</template>
