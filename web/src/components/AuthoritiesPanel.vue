<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, words, type Schemas } from '../api'
import { draftName, usePlan } from '../plan'

// By what it is known which certificates of other authorities are revoked, how fresh that is, and what would become of somebody.
const plan = usePlan()
const states = ref<Schemas['OtherAuthority'][]>([])
const problem = ref('')
const trying = ref('')
const pem = ref('')
const tried = ref<Schemas['CertificateTrial'] | null>(null)

async function load() {
  const { data } = await api.GET('/api/v1/authorities')
  states.value = data ?? []
}
onMounted(load)

async function fetchNow(name: string) {
  const { error } = await api.POST('/api/v1/authorities/{name}/fetch', { params: { path: { name } } })
  problem.value = error ? words(error) : ''
  await load()
}

async function give(name: string, event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  let text = ''
  for (const octet of new Uint8Array(await file.arrayBuffer())) text += String.fromCharCode(octet)
  const list = text.includes('-----BEGIN') ? text : `-----BEGIN X509 CRL-----\n${btoa(text)}\n-----END X509 CRL-----\n`
  const { error } = await api.PUT('/api/v1/authorities/{name}/list', { params: { path: { name } }, body: { pem: list } })
  problem.value = error ? words(error) : ''
  await load()
}

async function tryOne() {
  const { data, error } = await api.POST('/api/v1/authorities/{name}/trial', {
    params: { path: { name: trying.value }, query: { draft: draftName } },
    body: { pem: pem.value },
  })
  problem.value = error ? words(error) : ''
  tried.value = data ?? null
}

const names = () => (plan.reading?.plan.authorities ?? []).map((a) => a.name)
const at = (t?: string) => (t ? new Date(t).toLocaleString() : '–')
</script>

<template>
  <section v-if="states.length || names().length" aria-label="Other authorities">
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" class="my-2" role="alert">{{ problem }}</v-alert>
    <h3>whether certificates of others are revoked</h3>
    <p v-if="!states.length" class="hint">What runs takes certificates of no other authority yet: commit first.</p>
    <div v-for="a in states" :key="a.name" class="my-2">
      <p>
        <b :class="a.problem ? (a.open ? 'text-warn' : 'text-bad') : ''">{{ a.problem ? '✗' : '✓' }} {{ a.name }}</b>
        · {{ a.how }} · where it cannot be found out: {{ a['when-unknown'] }} · {{ a.keys }} devices came by it
        <v-btn size="x-small" variant="text" @click="fetchNow(a.name)">Fetch now</v-btn>
        <label class="pick"
          >Give a list<input type="file" :aria-label="`Revocation list of ${a.name}`" @change="(e) => give(a.name, e)"
        /></label>
      </p>
      <p v-if="a.problem" class="text-bad" role="alert">{{ a.problem }}<br />→ {{ a.mend }}</p>
      <table v-if="a.sources.length" class="plain">
        <thead>
          <tr>
            <th>From</th>
            <th>State</th>
            <th>Made</th>
            <th>Until</th>
            <th>Revokes</th>
            <th>Last</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in a.sources" :key="s.from">
            <td class="mono">{{ s.from }}</td>
            <td :class="{ 'text-bad': s.state !== 'fresh' }">{{ s.state }}</td>
            <td>{{ at(s.this) }}</td>
            <td>{{ at(s.next) }}</td>
            <td>{{ s.kind === 'list' && s.this ? (s.entries ?? 0) : '–' }}</td>
            <td :class="{ 'text-bad': s.failed }">{{ s.failed || at(s.fetched) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <details v-if="names().length">
      <summary>Try a certificate, without anybody logging in</summary>
      <v-select v-model="trying" :items="names()" label="authority" variant="outlined" density="compact" hide-details class="my-2" />
      <v-textarea v-model="pem" label="certificate, PEM" rows="4" class="mono" variant="outlined" density="compact" hide-details />
      <v-btn size="small" variant="outlined" class="my-2" :disabled="!trying || !pem" @click="tryOne">Try</v-btn>
      <ul v-if="tried" class="tried">
        <li v-for="s in tried.steps" :key="s.what" :class="{ 'text-bad': !s.ok }">
          {{ s.ok ? '✓' : '✗' }} <b>{{ s.what }}</b>: {{ s.words }}<span v-if="s.fix"><br />→ {{ s.fix }}</span>
        </li>
        <li v-if="tried.ok">
          <b>{{ tried.user }} would come in.</b>
        </li>
      </ul>
    </details>
  </section>
</template>

<style scoped>
h3 {
  font-size: 14px;
  margin-top: 16px;
}
p,
li,
summary {
  font-size: 13px;
}
.tried {
  list-style: none;
  padding: 0;
}
.pick {
  cursor: pointer;
  font-size: 12px;
  margin-left: 8px;
  text-decoration: underline;
}
.pick input {
  width: 0;
  opacity: 0;
}
.pick:focus-within {
  outline: 2px solid currentcolor;
}
</style>
