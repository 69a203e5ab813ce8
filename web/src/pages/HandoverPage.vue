<script setup lang="ts">
import { computed, onMounted, ref, shallowRef } from 'vue'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'

/** Who has which kit, who came in, and what is to be done next for each. */
type Row = Schemas['Row']
type Made = Schemas['Made']
const rows = shallowRef<Row[]>([])
const filter = ref('')
const problem = ref('')
const loaded = ref(false)
const made = shallowRef<Made>()
const busy = ref('')
const group = ref<string>()
const newPassword = ref(false)
const batch = shallowRef<Schemas['Batch']>()
const platforms = [
  { word: 'windows', title: 'Windows' },
  { word: 'apple', title: 'Apple' },
  { word: 'android', title: 'Android' },
] as const

async function load() {
  const { data, error } = await api.GET('/api/v1/handover')
  rows.value = data ?? []
  problem.value = error ? words(error) : ''
  loaded.value = true
}
onMounted(load)

/** A kit with a new password makes the present one worthless: that is asked for. */
const passwordsToo = async (who: string) =>
  !newPassword.value || (await sure(`Give ${who} a new password? The present one counts no more.`, 'Give a new password'))
const groups = computed(() => [...new Set(rows.value.flatMap((r) => r.groups))].sort())
async function makeAll(platform: (typeof platforms)[number]['word']) {
  if (!group.value || !(await passwordsToo(`everybody in ${group.value}`))) return
  busy.value = platform
  made.value = link.value = batch.value = undefined
  const { data, error } = await api.POST('/api/v1/groups/{name}/kits', {
    params: { path: { name: group.value } },
    body: { platform, 'new-passwords': newPassword.value },
  })
  busy.value = ''
  batch.value = data
  if (data) await load()
  problem.value = error ? words(error) : ''
}

async function make(user: string, platform: (typeof platforms)[number]['word']) {
  if (!(await passwordsToo(user))) return
  busy.value = user + platform
  made.value = link.value = batch.value = undefined
  const { data, error } = await api.POST('/api/v1/users/{name}/kits', {
    params: { path: { name: user } },
    body: { platform, 'new-password': newPassword.value },
  })
  busy.value = ''
  made.value = data
  if (data) await load()
  problem.value = error ? words(error) : ''
}

const link = shallowRef<Schemas['NewLink']>()
async function makeLink() {
  if (!made.value) return
  const { user, platform } = made.value
  const { data, error } = await api.POST('/api/v1/users/{name}/kit-links', {
    params: { path: { name: user } },
    body: { platform: platform as 'windows' | 'apple' | 'android' },
  })
  link.value = data
  if (error) problem.value = words(error)
}
const whole = computed(() => link.value && (link.value.url || window.location.origin + link.value.path))

const shown = computed(() => {
  const wanted = (filter.value ?? '').toLowerCase()
  if (!wanted) return rows.value
  return rows.value.filter((r) =>
    [r.user, r['full-name'] ?? '', r.next, r.refused ?? '', ...r.groups, ...r.kits.map((k) => k.platform)]
      .join(' ')
      .toLowerCase()
      .includes(wanted),
  )
})
const open = computed(() => rows.value.filter((r) => r.next).length)
const headers = [
  { title: 'Person', key: 'user' },
  { title: 'Kits', key: 'kits', sortable: false },
  { title: 'Came in', key: 'last' },
  { title: 'Next', key: 'next' },
  { title: 'Make a kit for', key: 'do', sortable: false, align: 'end' as const },
]
const date = (t?: string) => (t ? new Date(t).toLocaleDateString() : '')
const file = (f: { type: string; data: string }) => `data:${f.type.split(';')[0]};base64,${f.data}`
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center flex-wrap ga-4 mb-3">
      <h1>Handover</h1>
      <span class="text-medium-emphasis">{{ rows.length }} people, {{ open }} of whom need something</span>
      <v-spacer />
      <v-checkbox-btn
        id="new-password"
        v-model="newPassword"
        class="once"
        label="With a new password"
        title="A kit that is made then gives its person another password, which is in it"
      />
      <v-select
        id="kits-of"
        v-model="group"
        label="Kits of a group"
        :items="groups"
        clearable
        variant="outlined"
        density="compact"
        hide-details
        min-width="210"
        max-width="250"
      />
      <v-text-field v-model="filter" label="Filter" min-width="160" max-width="240" />
      <v-btn variant="outlined" to="/people">People</v-btn>
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert">{{ problem }}</v-alert>
    <v-card v-if="group" id="group-kits" class="pa-4 mb-3">
      <div class="d-flex align-center ga-3 flex-wrap">
        <h2>Everybody in {{ group }}</h2>
        <v-btn
          v-for="p in platforms"
          :key="p.word"
          size="small"
          variant="outlined"
          :loading="busy === p.word"
          :disabled="!!busy"
          @click="makeAll(p.word)"
          >{{ p.title }}</v-btn
        >
        <template v-if="batch">
          <span>● kits for {{ batch.made }} people</span>
          <v-btn size="small" :href="file({ type: 'application/zip', data: batch.zip })" :download="batch.name">{{ batch.name }}</v-btn>
        </template>
        <span v-else class="text-medium-emphasis">one file, with a folder for each person</span>
      </div>
      <div v-for="l in batch?.['left-out'] ?? []" :key="l.user" class="mt-1">▲ left out: {{ l.user }}: {{ l.why }}</div>
    </v-card>
    <v-card v-if="made" id="kit" class="pa-4 mb-3">
      <div class="d-flex align-center ga-3 flex-wrap mb-2">
        <h2>For {{ made.user }}, {{ platforms.find((p) => p.word === made?.platform)?.title }}</h2>
        <v-btn v-for="f in made.files" :key="f.name" size="small" variant="outlined" :href="file(f)" :download="f.name">{{ f.name }}</v-btn>
        <v-btn id="make-link" size="small" variant="text" @click="makeLink">A link for them instead</v-btn>
        <v-spacer />
        <v-btn size="small" variant="text" @click="made = undefined">Close</v-btn>
      </div>
      <v-alert v-if="link" id="link" type="success" variant="tonal" density="compact" class="mb-2">
        <div class="d-flex ga-4 flex-wrap">
          <img v-if="link.qr" :src="`data:image/png;base64,${link.qr}`" alt="the link as a picture" width="160" height="160" />
          <div class="told">
            <code class="where">{{ whole }}</code><br />
            It works once, by the button on its page, until {{ new Date(link.expires).toLocaleString() }}. It is shown this once. Withdraw
            it with <code>yl users kit-links withdraw {{ link.id }}</code
            >.
          </div>
        </div>
      </v-alert>
      <ol>
        <li v-for="s in made.steps" :key="s">{{ s }}</li>
      </ol>
      <p class="text-medium-emphasis mt-2">
        It comes in by tunnel {{ made.tunnel }}.
        <b v-if="made.key">A key for this device alone is in it, and nowhere else: hand it over safely.</b>
        <b v-else-if="made.shared">The key that they share with the gateway is in it: hand it over safely.</b>
        <b v-else-if="made.password">Their new password is in it: hand it over safely.</b>
        <template v-else>No password is in it: tell that by another way.</template>
      </p>
    </v-card>
    <v-card>
      <v-data-table-virtual
        id="handover"
        :headers="headers"
        :items="shown"
        item-value="user"
        density="compact"
        fixed-header
        :height="shown.length > 12 ? 'calc(100vh - 180px)' : undefined"
        :no-data-text="loaded ? (filter ? 'Nobody matches.' : 'Nobody may connect yet.') : ''"
      >
        <template #[`item.user`]="{ item }">
          <b>{{ item.user }}</b><br /><small>{{ item.groups.join(', ') || 'no group' }}</small>
        </template>
        <template #[`item.kits`]="{ item }">
          <div v-for="k in item.kits" :key="k.platform">
            {{ k.platform }} <small>of revision {{ k.revision }}</small>
            <b v-if="k.stale" class="text-bad" :title="k.stale"> ▲ stale</b>
          </div>
          <span v-if="!item.kits.length">–</span>
        </template>
        <template #[`item.last`]="{ item }">
          <template v-if="item.first">
            {{ date(item.last) }}<br /><small>first on {{ date(item.first) }}</small>
          </template>
          <span v-else>never</span>
          <div v-if="item.device">
            <small>● now, {{ item.device }}</small>
          </div>
        </template>
        <template #[`item.next`]="{ item }">
          <template v-if="item.next">
            ▲ {{ item.next }}<br v-if="item.refused" /><small v-if="item.refused">{{ item.refused }}</small>
          </template>
          <span v-else>●&nbsp;nothing</span>
        </template>
        <template #[`item.do`]="{ item }">
          <div class="buttons">
            <v-btn
              v-for="p in platforms"
              :key="p.word"
              size="small"
              variant="text"
              :loading="busy === item.user + p.word"
              @click="make(item.user, p.word)"
              >{{ p.title }}</v-btn
            >
            <v-btn v-if="item.refused" size="small" variant="text" :to="{ path: '/diagnose', query: { user: item.user } }">Diagnose</v-btn>
          </div>
        </template>
      </v-data-table-virtual>
    </v-card>
  </div>
</template>

<style scoped>
.once {
  flex: 0 0 auto;
}
.buttons {
  white-space: nowrap;
}
.told {
  color: rgb(var(--v-theme-on-surface));
}
.where {
  overflow-wrap: anywhere;
  font-weight: 600;
}
ol {
  padding-left: 22px;
}
li {
  margin: 3px 0;
}
</style>
