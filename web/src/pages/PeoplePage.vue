<script setup lang="ts">
import { computed, markRaw, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'
import ExplainDialog from '../components/ExplainDialog.vue'
import PeopleTable from '../components/PeopleTable.vue'
import PersonForm from '../components/PersonForm.vue'

type User = Schemas['PeopleUser']
const users = shallowRef<User[]>([])
const groups = ref<Schemas['Group'][]>([])
const filter = ref('')
const problem = ref('')
const done = ref('')
const editing = ref<User | 'new'>()
const wanted = ref('')
const password = ref('')
const table = ref(false)
const explained = ref('')
const elsewhere = ref<Schemas['EveryPerson'][]>([])
const all = ref(0)
const matching = ref(0)
const next = ref('')

const slowed = ref<Schemas['Slowed'][]>([])

async function load() {
  const [{ data: page, error }, { data: gs }, { data: waiting }] = await Promise.all([
    api.GET('/api/v1/users', { params: { query: { filter: filter.value ?? '' } } }),
    api.GET('/api/v1/groups'),
    api.GET('/api/v1/slowed'),
  ])
  api.GET('/api/v1/people-elsewhere').then(({ data }) => (elsewhere.value = data ?? []))
  slowed.value = waiting ?? []
  groups.value = gs ?? []
  users.value = []
  take(page)
  if (error) problem.value = words(error)
}

function take(page?: Schemas['PeoplePage']) {
  users.value = [...users.value, ...(page?.users ?? [])]
  all.value = page?.all ?? all.value
  matching.value = page?.matching ?? 0
  next.value = page?.next ?? ''
}

/** Those that match, once nothing was typed for a moment; what comes too late is not shown. */
let asked = 0
let pause: ReturnType<typeof setTimeout>
watch(filter, () => {
  clearTimeout(pause)
  pause = setTimeout(async () => {
    const mine = ++asked
    const { data } = await api.GET('/api/v1/users', { params: { query: { filter: filter.value ?? '' } } })
    if (mine !== asked) return
    users.value = []
    take(data)
  }, 150)
})

async function onward() {
  const { data } = await api.GET('/api/v1/users', {
    params: { query: { filter: filter.value ?? '', after: next.value, limit: 10000 } },
  })
  take(data)
}
const route = useRoute()
onMounted(async () => {
  await load()
  if (route.query.add) {
    // somebody is wanted in a group
    wanted.value = String(route.query.add)
    edit()
  }
})

const known = computed(() => [...new Set([...groups.value.map((g) => g.name), ...users.value.flatMap((u) => u.groups)])].sort())
/** Groups that a passage admits, by their name, in the order of the plan: the first of a person's decides. */
const passages = computed(() => new Map(groups.value.filter((g) => g.passage).map((g, place) => [g.name, { place, passage: g.passage }])))
const passageOf = (u: User) => {
  if (u.off) return { in: false, words: 'switched off' }
  if (u.until && new Date(u.until) <= new Date()) return { in: false, words: `over since ${new Date(u.until).toLocaleString()}` }
  let first: { place: number; passage: string } | undefined
  for (const g of u.groups) {
    const p = passages.value.get(g)
    if (p && (!first || p.place < first.place)) first = p
  }
  if (!first) return { in: false, words: 'no passage admits them' }
  if (u['must-change']) return { in: false, words: `by ${first.passage}, once they chose a password` }
  const limits = [
    u.until ? `until ${new Date(u.until).toLocaleDateString()}` : '',
    u.hours ? `hours ${u.hours}` : '',
    u.tunnels?.length ? `by ${u.tunnels.join(', ')} only` : '',
    u.sessions ? `${u.sessions} at once` : '',
  ].filter(Boolean)
  return { in: true, words: [`by ${first.passage}`, ...limits].join(', ') }
}
// There may be ten thousand: nothing of them is watched, and what is shown of one is worked out once.
const rows = computed(() =>
  users.value.map((u) => {
    const way = passageOf(u)
    return markRaw({
      name: u.name,
      full: u['full-name'] ?? '',
      in: u.groups.join(', '),
      comes: way.words,
      admitted: way.in,
      off: u.off,
      user: u,
    })
  }),
)
const headers = [
  { title: 'User', key: 'name' },
  { title: 'Name', key: 'full' },
  { title: 'Groups', key: 'in' },
  { title: 'Comes in', key: 'comes' },
  { title: '', key: 'do', sortable: false, align: 'end' as const },
]

function edit(u?: User) {
  editing.value = u ?? 'new'
  problem.value = done.value = password.value = ''
}

async function say(words_: string, error: unknown) {
  problem.value = error ? words(error) : ''
  done.value = error ? '' : words_
  if (!error) editing.value = undefined
  await load()
}

async function saved(words_: string, made: string) {
  password.value = made
  await say(words_, undefined)
}

async function toggle(u: User) {
  const { error } = await api.PUT('/api/v1/users/{name}', { params: { path: { name: u.name } }, body: { ...u, off: !u.off } })
  await say(`${u.name} ${u.off ? 'may log in again' : 'may no longer log in'}.`, error)
}

async function lift(name: string, source: string) {
  const { error } = await api.DELETE('/api/v1/slowed', { params: { query: { name, source } } })
  await say(`${name} may try again at once.`, error)
}

async function remove(u: User) {
  if (!(await sure(`Remove ${u.name} for good?`, 'Remove'))) return
  const { error } = await api.DELETE('/api/v1/users/{name}', { params: { path: { name: u.name } } })
  await say(`${u.name} is gone.`, error)
}
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center flex-wrap ga-4 mb-3">
      <h1>People</h1>
      <span id="how-many" class="text-medium-emphasis">{{ filter ? `${matching} of ${all}` : `${all} who may connect` }}</span>
      <v-spacer />
      <v-text-field id="filter" v-model="filter" label="Filter" min-width="160" max-width="240" />
      <v-btn id="to-handover" variant="outlined" to="/handover">Handover</v-btn>
      <v-btn id="table" variant="outlined" @click="table = true">As a table</v-btn>
      <v-btn id="add" color="primary" @click="edit()">Add a person</v-btn>
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert">{{ problem }}</v-alert>
    <v-alert v-if="done" type="success" variant="tonal" class="mb-3" closable @click:close="done = ''">{{ done }}</v-alert>
    <v-alert v-if="slowed.length" id="slowed" type="warning" variant="tonal" class="mb-3" density="compact">
      <div v-for="s in slowed.slice(0, 10)" :key="s.for + s.name + s.source" class="d-flex align-center ga-3 waits">
        <span>
          <b>{{ s.name }}</b> from {{ s.source.replace(/\/32$/, '') || 'everywhere' }}: {{ s.wrong }} wrong
          {{ (s.for === 'code' ? 'code' : 'password') + (s.wrong === 1 ? '' : 's') }}
          {{ s.for === 'console' ? 'at the console' : '' }}, waits until {{ new Date(s.until).toLocaleTimeString() }}
        </span>
        <v-btn size="x-small" variant="outlined" @click="lift(s.name, s.source)">Let try now</v-btn>
      </div>
      <div v-if="slowed.length > 10">and {{ slowed.length - 10 }} more: yl slowed list</div>
    </v-alert>
    <v-alert v-if="password" id="made-password" type="warning" variant="tonal" class="mb-3" closable @click:close="password = ''">
      <span class="waits"
        >Their password, shown this once: <code>{{ password }}</code> – it counts only until they choose another.</span
      >
    </v-alert>
    <PeopleTable v-model="table" @taken="load" />
    <PersonForm
      v-if="editing"
      :key="editing === 'new' ? '' : editing.name"
      :user="editing === 'new' ? undefined : editing"
      :groups="known"
      :wanted="wanted"
      @saved="saved"
      @cancel="editing = undefined"
    />
    <v-card>
      <v-data-table-virtual
        :headers="headers"
        :items="rows"
        item-value="name"
        density="compact"
        fixed-header
        :height="rows.length > 14 ? 'calc(100vh - 180px)' : undefined"
        :no-data-text="filter ? 'Nobody matches.' : 'Nobody may connect yet: add a person.'"
      >
        <template #[`item.name`]="{ item }">
          <b>{{ item.name }}</b>
        </template>
        <template #[`item.in`]="{ item }">{{ item.in || '–' }}</template>
        <template #[`item.comes`]="{ item }">
          <span :class="{ 'text-caution': !item.admitted }">{{ item.admitted ? '●' : '▲' }} {{ item.comes }}</span>
        </template>
        <template #[`item.do`]="{ item }">
          <div class="buttons">
            <v-btn size="small" variant="text" @click="explained = item.name">Explain</v-btn>
            <v-btn size="small" variant="text" :to="{ path: '/diagnose', query: { user: item.name } }">Diagnose</v-btn>
            <v-btn size="small" variant="text" @click="edit(item.user)">Change</v-btn>
            <v-btn size="small" variant="text" @click="toggle(item.user)">{{ item.off ? 'Switch on' : 'Switch off' }}</v-btn>
            <v-btn size="small" variant="text" @click="remove(item.user)">Remove</v-btn>
          </div>
        </template>
      </v-data-table-virtual>
      <v-btn v-if="next" id="onward" size="small" variant="text" @click="onward">and {{ matching - users.length }} more: show them</v-btn>
    </v-card>
    <v-card v-if="elsewhere.length" id="elsewhere" class="mt-3" title="Of sources, seen lately">
      <v-table density="compact">
        <tbody>
          <tr v-for="x in elsewhere.slice(0, 200)" :key="x.user">
            <td>
              <b>{{ x.user }}</b>
            </td>
            <td>{{ x['full-name'] }}</td>
            <td>{{ x.groups.join(', ') || '–' }}</td>
            <td>{{ x.gone ? '▲ not let in there any more' : `● ${x.source}` }}</td>
            <td class="text-end"><v-btn size="small" variant="text" @click="explained = x.user">Explain</v-btn></td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <ExplainDialog v-model="explained" />
  </div>
</template>

<style scoped>
.buttons {
  white-space: nowrap;
}
.waits {
  color: rgb(var(--v-theme-on-surface));
}
</style>
