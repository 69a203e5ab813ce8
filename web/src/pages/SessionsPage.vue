<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, words, type Flow, type PastSession, type Session } from '../api'
import { sure } from '../ask'
import TrafficGraph from '../components/TrafficGraph.vue'
import { size, useLive } from '../live'
import { settingQuery } from '../steps'

const past = ref<PastSession[]>([])
const flows = ref<Flow[]>([])
const open = ref('')
const tab = ref('live')
const filter = ref('')
const { sessions, counted, lines, loaded, broken } = useLive(filter)
const problem = ref('')

async function end(s: Session, all: boolean) {
  const question = all ? `End all sessions of ${s.user}?` : `End the session of ${s.user}? Everything that it carries breaks off.`
  if (!(await sure(question, 'End'))) return
  const { error } = all
    ? await api.DELETE('/api/v1/sessions', { params: { query: { user: s.user } } })
    : await api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: s.id } } })
  problem.value = error ? words(error) : ''
}

async function look(s: Session) {
  open.value = open.value === s.id ? '' : s.id
  if (!open.value) return
  const { data, error } = await api.GET('/api/v1/flows', { params: { query: { user: s.user, limit: 500 } } })
  flows.value = data ?? []
  problem.value = error ? words(error) : ''
}

watch(tab, async () => {
  if (tab.value !== 'past') return
  const { data } = await api.GET('/api/v1/sessions/past', { params: { query: { limit: 300 } } })
  past.value = data ?? []
})

/** Flows that differ in their ports alone, as one. */
const alike = computed(() => {
  const out = new Map<string, Flow & { n: number }>()
  for (const f of flows.value) {
    const portless = (end: string) => (f.service.match(/^(tcp|udp)/) ? end.replace(/:\d+$/, '') : end)
    const key = [portless(f.src), f.dst, f.service, f.rule, portless(f.leaves ?? ''), f.words].join(' ')
    const known = out.get(key)
    if (known) Object.assign(known, { n: known.n + 1, sent: known.sent + f.sent, got: known.got + f.got })
    else out.set(key, { ...f, n: 1 })
  }
  return [...out.values()]
})
const has = (x: unknown) => JSON.stringify(x).toLowerCase().includes(filter.value.toLowerCase())
const shown = sessions
const shownPast = computed(() => past.value.filter(has))
const headers = [
  { title: 'User', key: 'user' },
  { title: 'Address', key: 'addresses' },
  { title: 'Seen at', key: 'from' },
  { title: 'Since', key: 'since' },
  { title: 'From them, to them', key: 'in-bytes' },
  { title: 'Last two minutes', key: 'traffic', sortable: false },
  { title: 'Lost', key: 'flag' },
  { title: '', key: 'do', sortable: false },
]
const flagged = computed(() => counted.value.flagged)
const several = (s: Session) => sessions.value.filter((x) => x.user === s.user).length > 1
const lost = (s: Session) =>
  Object.entries(s.lost ?? {})
    .map(([station, n]) => `${n} at ${station}`)
    .concat(s.missing ? [`${s.missing} on the way`] : [])
    .join(', ')
const later = (s: Session) =>
  s['safe-login'] && s['safe-traffic']
    ? 'safe against later decryption'
    : s['safe-traffic']
      ? 'traffic safe against later decryption, login not'
      : 'not safe against later decryption'
const clock = (t: string) => new Date(t).toLocaleTimeString()
const lasted = (p: PastSession) => {
  const s = Math.round((new Date(p.until).getTime() - new Date(p.since).getTime()) / 1000)
  return s < 120 ? `${s} s` : s < 7200 ? `${Math.round(s / 60)} min` : `${(s / 3600).toFixed(1)} h`
}
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center flex-wrap ga-4 mb-3">
      <h1>Sessions</h1>
      <v-btn-toggle v-model="tab" mandatory density="compact" variant="outlined">
        <v-btn value="live" size="small">Live: {{ counted.all }}</v-btn>
        <v-btn value="past" size="small">Past</v-btn>
      </v-btn-toggle>
      <v-chip v-if="flagged" color="bad" variant="tonal">▲ {{ flagged }} to look at</v-chip>
      <span v-if="broken" class="text-bad">the service does not answer; trying again</span>
      <v-spacer />
      <v-text-field v-model="filter" label="Filter" min-width="160" max-width="240" />
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" role="alert">{{ problem }}</v-alert>
    <p v-if="tab === 'live' && counted.match > sessions.length" class="quiet mb-2">
      {{ sessions.length }} of {{ counted.match }} are shown, those to look at first: filter by user, group, passage, device or address.
    </p>
    <v-card v-if="tab === 'live'">
      <v-data-table-virtual
        :headers="headers"
        :items="shown"
        item-value="id"
        fixed-header
        class="live"
        :height="shown.length > 6 ? 'calc(100vh - 190px)' : undefined"
        :no-data-text="loaded ? (filter ? 'No session matches.' : 'Nobody is connected.') : ''"
      >
        <template #item="{ item: s, itemRef }">
          <tr :ref="itemRef">
            <td>
              <b>{{ s.trial ? 'an identity made for a trial' : s.user }}</b><br /><small
                >{{ s.groups.join(', ') }}<br />passage {{ s.passage }} by {{ s.tunnel }}</small
              >
            </td>
            <td class="mono">{{ [...s.addresses, ...(s.prefixes ?? []).map((p) => `(${p})`)].join(' ') }}</td>
            <td class="mono">
              {{ s.from }}<br /><small
                >{{ s.tcp ? 'over TCP · ' : '' }}{{ s.behind ? 'behind a translation' : 'directly' }}<br />{{ s.suite }}<br />{{
                  later(s)
                }}</small
              >
            </td>
            <td>
              {{ clock(s.since) }}<br /><small>heard {{ s.heard ? clock(s.heard) : 'nothing yet' }}</small>
            </td>
            <td>
              {{ s['in-packets'] }} packets, {{ size(s['in-bytes']) }}<br />{{ s['out-packets'] }} packets, {{ size(s['out-bytes']) }}
            </td>
            <td><TrafficGraph :session="s" /></td>
            <td>
              {{ lost(s) || '–' }}<br /><b v-if="s.flag" class="text-bad">▲ {{ s.flag }}</b>
            </td>
            <td>
              <div class="buttons">
                <v-btn size="x-small" variant="outlined" @click="look(s)">Flows</v-btn>
                <v-btn
                  size="x-small"
                  variant="outlined"
                  :href="`/api/v1/sessions/${s.id}/recording?seconds=30`"
                  title="Its packets of the next 30 seconds as a pcapng file"
                  >Record</v-btn
                >
                <v-btn
                  v-if="!s.trial"
                  size="x-small"
                  variant="outlined"
                  :to="{ path: '/diagnose', query: { user: s.user, complaint: 'reaches-some' } }"
                  >Diagnose</v-btn
                >
                <v-btn size="x-small" variant="outlined" @click="end(s, false)">End</v-btn>
                <v-btn v-if="several(s)" size="x-small" variant="outlined" @click="end(s, true)">End all of theirs</v-btn>
              </div>
            </td>
          </tr>
          <tr v-if="open === s.id">
            <td colspan="8" class="flows">
              <p v-if="!flows.length">No flow is open.</p>
              <p v-for="(f, i) in alike" :key="i" class="mono">
                <template v-if="f.n > 1">{{ f.n }} flows as </template> {{ f.src }} → {{ f.dst }} {{ f.service
                }}<span v-if="f.leaves"> leaves as {{ f.leaves }}</span> · {{ f.sent }} packets from them, {{ f.got }} to them · rule
                <router-link :to="{ path: '/plan', query: settingQuery('rules/' + f.rule) }">{{ f.rule }}</router-link>
                <b v-if="f.words" class="text-bad"> ▲ {{ f.words }}</b>
              </p>
            </td>
          </tr>
        </template>
      </v-data-table-virtual>
    </v-card>
    <v-card v-else>
      <table class="plain">
        <thead>
          <tr>
            <th>User</th>
            <th>Passage</th>
            <th>Address</th>
            <th>Seen at</th>
            <th>Since</th>
            <th>Lasted</th>
            <th>From them, to them</th>
            <th>Lost</th>
            <th>Ended</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(p, i) in shownPast" :key="i">
            <td>
              <b>{{ p.user }}</b>
            </td>
            <td>{{ p.passage }}</td>
            <td class="mono">{{ p.addresses }}</td>
            <td class="mono">{{ p.from }} {{ p.over }}</td>
            <td>{{ new Date(p.since).toLocaleString() }}</td>
            <td>{{ lasted(p) }}</td>
            <td>{{ size(p['in-bytes']) }}, {{ size(p['out-bytes']) }}</td>
            <td>{{ p.lost + p.missing || '–' }}</td>
            <td>{{ p.words }}</td>
          </tr>
          <tr v-if="!shownPast.length">
            <td colspan="9">{{ filter ? 'No session matches.' : 'No session ended yet.' }}</td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <section v-if="tab === 'live' && lines.length" class="lines" aria-label="Journal, as it is written">
      <p v-for="(e, i) in lines.slice(0, 8)" :key="i">
        <span class="mono">{{ clock(e.time) }}</span> {{ e.kind }} <b>{{ e.user }}</b> {{ e.words }}
      </p>
    </section>
  </div>
</template>

<style scoped>
.live :deep(td:not([colspan])) {
  vertical-align: top;
  padding-block: 6px !important;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.flows p {
  margin: 1px 0;
  font-size: 12px;
}
.lines {
  margin-top: 14px;
  font-size: 12.5px;
  color: rgb(var(--v-theme-quiet));
}
.lines p {
  margin: 0;
}
</style>
