<script setup lang="ts">
import { computed, markRaw, onMounted, reactive, ref, shallowRef } from 'vue'
import { useRoute } from 'vue-router'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'
import KeysPanel from '../components/KeysPanel.vue'
import SharedKeysPanel from '../components/SharedKeysPanel.vue'

type User = Schemas['PeopleUser']
const users = shallowRef<User[]>([])
const groups = ref<Schemas['Group'][]>([])
const filter = ref('')
const problem = ref('')
const done = ref('')
const editing = ref('')
const form = reactive({ name: '', full: '', groups: [] as string[], password: '' })

const slowed = ref<Schemas['Slowed'][]>([])

async function load() {
  const [{ data: us, error }, { data: gs }, { data: waiting }] = await Promise.all([
    api.GET('/api/v1/users'),
    api.GET('/api/v1/groups'),
    api.GET('/api/v1/slowed'),
  ])
  slowed.value = waiting ?? []
  users.value = us ?? []
  groups.value = gs ?? []
  if (error) problem.value = words(error)
}
const route = useRoute()
onMounted(async () => {
  await load()
  if (route.query.add) {
    // somebody is wanted in a group
    edit()
    form.groups = [String(route.query.add)]
  }
})

const known = computed(() => [...new Set([...groups.value.map((g) => g.name), ...users.value.flatMap((u) => u.groups)])].sort())
/** Groups that a passage admits, by their name, in the order of the plan: the first of a person's decides. */
const passages = computed(() => new Map(groups.value.filter((g) => g.passage).map((g, place) => [g.name, { place, passage: g.passage }])))
const passageOf = (u: User) => {
  if (u.off) return { in: false, words: 'switched off' }
  let first: { place: number; passage: string } | undefined
  for (const g of u.groups) {
    const p = passages.value.get(g)
    if (p && (!first || p.place < first.place)) first = p
  }
  return first ? { in: true, words: `by ${first.passage}` } : { in: false, words: 'no passage admits them' }
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
const matching = computed(() => {
  const wanted = (filter.value ?? '').toLowerCase()
  return wanted ? rows.value.filter((r) => `${r.name} ${r.full} ${r.in}`.toLowerCase().includes(wanted)) : rows.value
})
const most = ref(1000) // rows that the table is given at first
const headers = [
  { title: 'User', key: 'name' },
  { title: 'Name', key: 'full' },
  { title: 'Groups', key: 'in' },
  { title: 'Comes in', key: 'comes' },
  { title: '', key: 'do', sortable: false, align: 'end' as const },
]

function edit(u?: User) {
  editing.value = u ? u.name : 'new'
  Object.assign(form, { name: u?.name ?? '', full: u?.['full-name'] ?? '', groups: [...(u?.groups ?? [])], password: '' })
  problem.value = done.value = ''
}

async function say(words_: string, error: unknown) {
  problem.value = error ? words(error) : ''
  done.value = error ? '' : words_
  if (!error) editing.value = ''
  await load()
}

async function save() {
  if (editing.value === 'new') {
    const { error } = await api.POST('/api/v1/users', {
      body: { name: form.name, 'full-name': form.full, groups: form.groups, password: form.password },
    })
    return say(`${form.name} is added.`, error)
  }
  const old = users.value.find((u) => u.name === editing.value)
  const { error } = await api.PUT('/api/v1/users/{name}', {
    params: { path: { name: editing.value } },
    body: { name: form.name, 'full-name': form.full, groups: form.groups, off: old?.off },
  })
  if (!error && form.password) {
    const { error: refused } = await api.PUT('/api/v1/users/{name}/password', {
      params: { path: { name: editing.value } },
      body: { password: form.password },
    })
    return say(`${form.name} is changed, with a new password.`, refused)
  }
  return say(`${form.name} is changed.`, error)
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
      <span class="text-medium-emphasis">{{ users.length }} who may connect</span>
      <v-spacer />
      <v-text-field v-model="filter" label="Filter" min-width="160" max-width="240" />
      <v-btn id="to-handover" variant="outlined" to="/handover">Handover</v-btn>
      <v-btn id="add" color="primary" @click="edit()">Add a person</v-btn>
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert">{{ problem }}</v-alert>
    <v-alert v-if="done" type="success" variant="tonal" class="mb-3" closable @click:close="done = ''">{{ done }}</v-alert>
    <v-alert v-if="slowed.length" id="slowed" type="warning" variant="tonal" class="mb-3" density="compact">
      <div v-for="s in slowed.slice(0, 10)" :key="s.for + s.name + s.source" class="d-flex align-center ga-3 waits">
        <span>
          <b>{{ s.name }}</b> from {{ s.source.replace(/\/32$/, '') }}: {{ s.wrong }} wrong {{ s.wrong === 1 ? 'password' : 'passwords' }}
          {{ s.for === 'console' ? 'at the console' : '' }}, waits until {{ new Date(s.until).toLocaleTimeString() }}
        </span>
        <v-btn size="x-small" variant="outlined" @click="lift(s.name, s.source)">Let try now</v-btn>
      </div>
      <div v-if="slowed.length > 10">and {{ slowed.length - 10 }} more: yl slowed list</div>
    </v-alert>
    <v-card v-if="editing" class="pa-4 mb-3">
      <form class="d-flex ga-3 flex-wrap align-start" @submit.prevent="save">
        <v-text-field
          id="user"
          v-model="form.name"
          label="User"
          :disabled="editing !== 'new'"
          hint="What they log in with"
          persistent-hint
        />
        <v-text-field id="full-name" v-model="form.full" label="Name" />
        <v-combobox
          id="groups"
          v-model="form.groups"
          :items="known"
          label="Groups"
          multiple
          chips
          closable-chips
          density="compact"
          variant="outlined"
          min-width="260"
        />
        <v-text-field
          id="user-password"
          v-model="form.password"
          type="password"
          autocomplete="new-password"
          :label="editing === 'new' ? 'Password' : 'New password'"
          :hint="editing === 'new' ? 'At least 12 characters' : 'Empty: it stays'"
          persistent-hint
        />
        <v-btn id="save-user" type="submit" color="primary">Save</v-btn>
        <v-btn variant="text" @click="editing = ''">Cancel</v-btn>
      </form>
      <template v-if="editing !== 'new'">
        <KeysPanel :user="editing" />
        <SharedKeysPanel :user="editing" />
      </template>
    </v-card>
    <v-card>
      <v-data-table-virtual
        :headers="headers"
        :items="matching.slice(0, most)"
        item-value="name"
        density="compact"
        fixed-header
        :height="matching.length > 14 ? 'calc(100vh - 180px)' : undefined"
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
            <v-btn size="small" variant="text" :to="{ path: '/diagnose', query: { user: item.name } }">Diagnose</v-btn>
            <v-btn size="small" variant="text" @click="edit(item.user)">Change</v-btn>
            <v-btn size="small" variant="text" @click="toggle(item.user)">{{ item.off ? 'Switch on' : 'Switch off' }}</v-btn>
            <v-btn size="small" variant="text" @click="remove(item.user)">Remove</v-btn>
          </div>
        </template>
      </v-data-table-virtual>
      <v-btn v-if="matching.length > most" size="small" variant="text" @click="most = Infinity"
        >and {{ matching.length - most }} more: show all</v-btn
      >
    </v-card>
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
