<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'
import OwnFactor from '../components/OwnFactor.vue'
import { useSession } from '../session'

/** Who may use the service, and by what. */
type Role = Schemas['Administrator']['role']
const roles: { value: Role; title: string; does: string }[] = [
  { value: 'administrator', title: 'administrator', does: 'everything' },
  { value: 'operator', title: 'operator', does: 'watches, tries, and ends sessions' },
  { value: 'help-desk', title: 'help desk', does: 'looks after people: passwords, keys, kits, second factors' },
  { value: 'auditor', title: 'auditor', does: 'reads' },
]
const session = useSession()
const all = ref<Schemas['Administrator'][]>([])
const tokens = ref<Schemas['TokenInfo'][]>([])
const requests = ref<Schemas['Waiting'][]>([])
const approved = ref<string[]>([])
const problem = ref('')
const made = ref<{ name: string; password: string }>()
const form = reactive<{ name: string; role: Role }>({ name: '', role: 'help-desk' })
const mine = computed(() => all.value.find((a) => a.name === session.name))
const filter = ref('')

async function load() {
  const [{ data, error }, { data: ts }, { data: rs }] = await Promise.all([
    api.GET('/api/v1/administrators'),
    api.GET('/api/v1/tokens'),
    api.GET('/api/v1/requests'),
  ])
  all.value = data ?? []
  tokens.value = ts ?? []
  requests.value = rs ?? []
  if (error) problem.value = words(error)
}
onMounted(load)

/** Says what went wrong, or looks anew. */
async function after(error: unknown) {
  problem.value = error ? words(error) : ''
  await load()
  if (error) problem.value = words(error)
}

async function add() {
  const { data, error } = await api.POST('/api/v1/administrators', { body: { name: form.name, role: form.role } })
  made.value = data && { name: data.name, password: data.password }
  if (data) form.name = ''
  await after(error)
}

async function change(a: Schemas['Administrator'], role: Role) {
  const { error } = await api.PUT('/api/v1/administrators/{name}/role', { params: { path: { name: a.name } }, body: { role } })
  await after(error)
}

async function password(a: Schemas['Administrator']) {
  const [asks, does] = a.source
    ? [`Forget the second factor of ${a.name}? They are signed out; their password is that of ${a.source}.`, 'Forget it']
    : [`Make ${a.name} another password? What they have open ends, and their second factor is forgotten.`, 'Make it']
  if (!(await sure(asks, does))) return
  const { data, error } = await api.POST('/api/v1/administrators/{name}/password', {
    params: { path: { name: a.name } },
    body: { 'forget-second-factor': true },
  })
  made.value = data?.password ? { name: a.name, password: data.password } : undefined
  await after(error)
}

async function remove(a: Schemas['Administrator']) {
  if (!(await sure(`Remove ${a.name}? What they have open ends at once.`, 'Remove'))) return
  const { error } = await api.DELETE('/api/v1/administrators/{name}', { params: { path: { name: a.name } } })
  await after(error)
}

/** The passwords that an answer holds, each behind whose it is. */
function passwordsIn(answer: unknown): string[] {
  if (Array.isArray(answer)) return answer.flatMap(passwordsIn)
  if (!answer || typeof answer !== 'object') return []
  const x = answer as Record<string, unknown>
  const own = typeof x.password === 'string' && x.password ? [`${x.user ?? x.name ?? ''} ${x.password}`] : []
  return [...own, ...Object.values(x).flatMap(passwordsIn)]
}

async function approve(r: Schemas['Waiting']) {
  const { data: whole } = await api.GET('/api/v1/requests/{id}', { params: { path: { id: r.id } } })
  const content = (whole?.content ?? '').slice(0, 2000)
  if (!(await sure(`${r.words}. It is done at once, in the name of ${r.by}. Content: ${content}`, 'Approve'))) return
  const { data, error } = await api.POST('/api/v1/requests/{id}/approval', { params: { path: { id: r.id } } })
  approved.value = passwordsIn(data?.answer)
  await after(error)
}

async function withdraw(r: Schemas['Waiting']) {
  const { error } = await api.DELETE('/api/v1/requests/{id}', { params: { path: { id: r.id } } })
  await after(error)
}

async function signOut(a: Schemas['Administrator']) {
  const { error } = await api.DELETE('/api/v1/administrators/{name}/sessions', { params: { path: { name: a.name } } })
  await after(error)
}

async function removeToken(t: Schemas['TokenInfo']) {
  if (!(await sure(`Make the token "${t.name}" of ${t.administrator} worthless?`, 'Make it worthless'))) return
  const { error } = await api.DELETE('/api/v1/tokens/{name}', { params: { path: { name: t.id } } })
  await after(error)
}

const shown = computed(() => tokens.value.filter((t) => `${t.name} ${t.administrator} ${t.role ?? ''}`.includes(filter.value ?? '')))
const day = (when?: string) => (when ? new Date(when).toLocaleString() : 'never')
</script>

<template>
  <div class="pa-5">
    <h1 class="mb-3">Access</h1>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert">{{ problem }}</v-alert>
    <v-alert v-if="made" id="made" type="info" variant="tonal" class="mb-3">
      The password of <b>{{ made.name }}</b>, shown this once; it counts only to choose another with: <code>{{ made.password }}</code>
    </v-alert>
    <v-alert v-if="approved.length" id="approved" type="info" variant="tonal" class="mb-3">
      Passwords that were made, shown this once; each counts only to choose another with:
      <div v-for="line in approved" :key="line">
        <code>{{ line }}</code>
      </div>
    </v-alert>
    <v-card v-if="requests.length" class="pa-4 mb-4">
      <h2 class="mb-2">Waiting for approval</h2>
      <p class="quiet mb-2">The plan requires that another administrator approves these.</p>
      <table id="requests">
        <thead>
          <tr>
            <th>Request</th>
            <th>What it does</th>
            <th>Requested by</th>
            <th>Since</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in requests" :key="r.id">
            <td>{{ r.id }}</td>
            <td>{{ r.words }}</td>
            <td>{{ r.by }}</td>
            <td>{{ day(r.at) }}</td>
            <td>
              <v-btn v-if="r.by !== session.name && mine?.role === 'administrator'" size="small" variant="outlined" @click="approve(r)"
                >Approve</v-btn
              >
              <v-btn v-if="r.by === session.name || mine?.role === 'administrator'" size="small" variant="text" @click="withdraw(r)"
                >Withdraw</v-btn
              >
            </td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <v-card class="pa-4 mb-4">
      <h2 class="mb-2">Administrators</h2>
      <table id="administrators" class="mb-4">
        <thead>
          <tr>
            <th>Name</th>
            <th>Role</th>
            <th>Second factor</th>
            <th>Signed in</th>
            <th>Tokens</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="a in all" :key="a.name">
            <td>
              <b>{{ a.name }}</b>
              <small v-if="a['must-change']"> has not chosen a password yet</small>
              <small v-if="a.source"> of source {{ a.source }}</small>
              <small v-if="a['last-resort']"> of last resort: that they sign in is an alarm</small>
              <small v-if="a['does-not-sign-in']"> does not sign in, as the plan is</small>
            </td>
            <td>
              <span v-if="a.source">{{ a.role }}</span>
              <v-select
                v-else
                :id="`role-${a.name}`"
                :model-value="a.role"
                :items="roles"
                :aria-label="`Role of ${a.name}`"
                density="compact"
                variant="outlined"
                hide-details
                width="180"
                @update:model-value="(r: Role) => change(a, r)"
              />
            </td>
            <td>{{ a['second-factor'] ? '● has one' : '○ none' }}</td>
            <td>{{ a.sessions === 1 ? '1 browser' : `${a.sessions} browsers` }}</td>
            <td>{{ a.tokens }}</td>
            <td class="acts">
              <v-btn size="small" variant="text" @click="signOut(a)">Sign out</v-btn>
              <v-btn size="small" variant="text" @click="password(a)">{{ a.source ? 'Forget second factor' : 'New password' }}</v-btn>
              <v-btn v-if="a.name !== session.name" size="small" variant="text" @click="remove(a)">Remove</v-btn>
            </td>
          </tr>
        </tbody>
      </table>
      <form class="d-flex ga-3 flex-wrap align-start" @submit.prevent="add">
        <v-text-field id="new-administrator" v-model="form.name" label="Name" max-width="260" />
        <v-select id="new-role" v-model="form.role" :items="roles" label="Role" density="compact" variant="outlined" max-width="220" />
        <v-btn id="add-administrator" type="submit" variant="outlined" :disabled="!form.name">Add</v-btn>
        <span class="mt-2">{{ roles.find((r) => r.value === form.role)?.does }}</span>
      </form>
    </v-card>
    <OwnFactor :has="mine?.['second-factor'] ?? false" @changed="load" />
    <v-card class="pa-4">
      <h2 class="mb-2">API tokens</h2>
      <v-text-field id="token-filter" v-model="filter" label="Filter" max-width="300" density="compact" clearable />
      <table id="tokens">
        <thead>
          <tr>
            <th>For</th>
            <th>Administrator</th>
            <th>May do</th>
            <th>Last used</th>
            <th>Ends</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in shown" :key="t.id">
            <td>
              <b>{{ t.name }}</b>
            </td>
            <td>{{ t.administrator }}</td>
            <td>{{ t.role || 'as they may' }}</td>
            <td>{{ day(t.used) }}</td>
            <td>{{ day(t.expires) }}</td>
            <td><v-btn size="small" variant="text" @click="removeToken(t)">Make worthless</v-btn></td>
          </tr>
        </tbody>
      </table>
    </v-card>
  </div>
</template>

<style scoped>
table {
  border-collapse: collapse;
  display: block;
  overflow-x: auto;
}
th,
td {
  text-align: left;
  padding: 4px 20px 4px 0;
  vertical-align: middle;
}
th {
  font-weight: 600;
}
.acts {
  white-space: nowrap;
}
</style>
