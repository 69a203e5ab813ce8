<script setup lang="ts">
import { mdiAlert, mdiCheckCircle } from '@mdi/js'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { api, words, type Round, type Schemas } from '../api'
import { settingQuery } from '../steps'

const rounds = ref<Round[]>([])
const round = ref<Round>()
const vantages = ref<Schemas['Vantage'][]>([])
const chosen = ref<string[]>([])
const schedule = ref<Schemas['Schedule']>()
const every = ref(0)
const picked = ref('')
const filter = ref('')
const problem = ref('')
let timer = 0

const often = [
  { title: 'never', value: 0 },
  { title: 'every hour', value: 3600 },
  { title: 'every 6 hours', value: 21600 },
  { title: 'every day', value: 86400 },
]

async function list() {
  const { data } = await api.GET('/api/v1/rounds', { params: { query: { limit: 60 } } })
  rounds.value = data ?? []
}

async function show(id: number) {
  window.clearTimeout(timer)
  const { data, error } = await api.GET('/api/v1/rounds/{id}', { params: { path: { id } } })
  if (error) {
    problem.value = id ? words(error) : ''
    return
  }
  round.value = data
  if (data.state === 'running') timer = window.setTimeout(() => show(data.id), 700)
  else await list()
}

async function begin() {
  const { data, error } = await api.POST('/api/v1/rounds', { body: { vantages: chosen.value } })
  problem.value = error ? words(error) : ''
  if (data) await show(data.id)
}

async function plan() {
  const { data, error } = await api.PUT('/api/v1/schedule', { body: { every: every.value, vantages: chosen.value } })
  problem.value = error ? words(error) : ''
  if (data) schedule.value = data
}

onMounted(async () => {
  const [v, s] = await Promise.all([api.GET('/api/v1/vantages'), api.GET('/api/v1/schedule'), list(), show(0)])
  vantages.value = v.data ?? []
  if (!vantages.value.some((x) => !x.enrolled))
    // no lab: a real host
    vantages.value.unshift({ name: 'this-network', about: 'the network of this machine: no trial from outside' })
  chosen.value = vantages.value.filter((x) => !x.enrolled || x.connected).map((x) => x.name)
  schedule.value = s.data
  every.value = s.data?.every ?? 0
})
onUnmounted(() => window.clearTimeout(timer))

type Result = Round['results'][number]
const rows = computed(() => {
  const by = new Map<string, Record<string, Result>>()
  for (const r of round.value?.results ?? []) by.set(r.class, { ...by.get(r.class), [r.vantage]: r })
  return [...by].filter(([name]) => name.toLowerCase().includes(filter.value.toLowerCase()))
})
const detail = computed(() => round.value?.results.find((r) => `${r.class} ${r.vantage}` === picked.value))
const about = (name: string) => vantages.value.find((v) => v.name === name)?.about ?? ''
const cell = (r: Result) =>
  !r.connected
    ? r.ok
      ? 'kept out'
      : r['not-tried']
        ? 'not judged'
        : 'does not get in'
    : r.ok
      ? `${r.tried} as expected`
      : [r.missed && `${r.missed} of ${r.tried} not as expected`, r['not-judged'] && `${r['not-judged']} not judged`]
          .filter(Boolean)
          .join(', ') || 'not as expected'
const causes = computed(() => {
  const who = new Map<string, string[]>()
  for (const r of round.value?.results ?? [])
    if (!r.ok) for (const c of r.causes.length ? r.causes : [r.login]) who.set(c, [...(who.get(c) ?? []), `${r.class} from ${r.vantage}`])
  return [...who]
})
/** The settings that a cause names, to go there. */
const settings = (cause: string) =>
  [...cause.matchAll(/\b(?:passages|tunnels|hosts|networks|routers|gateways|rules|nat|pools)\/[a-z0-9._-]+(?:\/[a-z-]+)*/g)].map(
    (m) => m[0],
  )
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center ga-4 mb-2 flex-wrap">
      <h1>Trials</h1>
      <v-chip v-if="round" id="round" :color="round.state === 'running' ? 'quiet' : round.ok ? 'good' : 'bad'" variant="tonal">
        {{ round.state === 'running' ? `${round.done} of ${round.of} logins` : round.words }} · revision {{ round.revision }}
      </v-chip>
      <v-spacer />
      <v-text-field v-model="filter" label="Filter people" max-width="180" />
      <v-btn color="primary" :disabled="round?.state === 'running' || !chosen.length" @click="begin">Try everybody now</v-btn>
    </div>
    <p class="mb-2 about">
      Every class of people logs in over a real tunnel, by an identity that is made for it and gone afterwards, and tries what must and what
      must not be reached, and the boundaries of what is computed.
    </p>
    <v-alert v-if="problem" type="error" variant="tonal" role="alert" class="mb-2">{{ problem }}</v-alert>
    <div class="d-flex ga-4 mb-3 align-center flex-wrap">
      <label v-for="v in vantages" :key="v.name" :title="v.about" class="vantage"
        ><input v-model="chosen" type="checkbox" :value="v.name" /> {{ v.name
        }}{{ v.enrolled && !v.connected ? ' (not connected)' : '' }}</label
      >
      <v-spacer />
      <v-select
        v-model="every"
        :items="often"
        label="By itself"
        density="compact"
        variant="outlined"
        hide-details
        max-width="170"
        @update:model-value="plan"
      />
      <small v-if="schedule?.every && schedule.next"
        >next {{ new Date(schedule.next).toLocaleString() }} from {{ schedule.vantages?.join(', ') }}</small
      >
    </div>
    <v-card v-if="round" class="mb-3 scroll">
      <table class="plain">
        <thead>
          <tr>
            <th>People</th>
            <th v-for="v in round.vantages" :key="v">
              {{ v }}<br /><small>{{ about(v) }}</small>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="[name, by] in rows" :key="name">
            <th scope="row">{{ name }}</th>
            <td v-for="v in round.vantages" :key="v" :class="{ trouble: by[v] && !by[v].ok, picked: picked === `${name} ${v}` }">
              <button v-if="by[v]" type="button" @click="picked = `${name} ${v}`">
                <v-icon :icon="by[v].ok ? mdiCheckCircle : mdiAlert" :color="by[v].ok ? 'good' : 'bad'" size="16" /> {{ cell(by[v]) }}
                <small v-if="by[v].connected">{{ by[v].over }} · packets to {{ by[v].largest || '?' }} octets</small>
              </button>
              <span v-else>…</span>
            </td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <v-alert v-else-if="!problem" type="info" variant="tonal">Nothing was tried yet.</v-alert>
    <v-alert v-if="detail" variant="tonal" :color="detail.ok ? 'good' : 'bad'" class="mb-3" density="compact">
      <b>{{ detail.class }} from {{ detail.vantage }}</b
      >: {{ detail.login }}; {{ cell(detail) }}; {{ detail.differs }} not as computed.
    </v-alert>
    <article v-for="[cause, who] in causes" :key="cause" class="cause">
      <b>▲ {{ who.join(', ') }}</b>
      <p>{{ cause }}</p>
      <router-link v-for="s in settings(cause)" :key="s" class="mono mr-3" :to="{ path: '/plan', query: settingQuery(s) }">{{
        s
      }}</router-link>
    </article>
    <details v-if="rounds.length > 1" class="mt-3">
      <summary>Earlier rounds</summary>
      <table class="plain">
        <tbody>
          <tr v-for="r in rounds" :key="r.id">
            <td>
              <button type="button" @click="show(r.id)">{{ r.ok ? '✓' : r.state === 'running' ? '…' : '✗' }} round {{ r.id }}</button>
            </td>
            <td>{{ new Date(r.at).toLocaleString() }}</td>
            <td>revision {{ r.revision }}</td>
            <td>{{ r.vantages.join(', ') }}</td>
            <td>{{ r.by }}</td>
            <td>{{ r.words }}</td>
          </tr>
        </tbody>
      </table>
    </details>
  </div>
</template>

<style scoped>
.about {
  color: rgb(var(--v-theme-quiet));
  max-width: 100ch;
}
.vantage {
  font-size: 13px;
}
.scroll {
  overflow-x: auto;
}
td small,
th small {
  display: block;
  font-weight: 400;
  color: rgb(var(--v-theme-quiet));
}
td button {
  text-align: left;
}
td.trouble {
  background: rgba(179, 38, 30, 0.08);
}
td.picked {
  outline: 2px solid rgb(var(--v-theme-lantern));
}
.cause {
  border-left: 4px solid rgb(var(--v-theme-bad));
  padding: 4px 10px;
  margin: 6px 0;
  font-size: 13px;
}
.cause p {
  margin: 0;
}
summary {
  cursor: pointer;
}
</style>
