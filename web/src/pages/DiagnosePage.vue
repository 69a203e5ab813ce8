<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, words, type Edit, type Schemas } from '../api'
import { usePlan } from '../plan'
import { settingQuery } from '../steps'

type Complaint = Schemas['Complaint']['complaint']
const complaints: { value: Complaint; title: string }[] = [
  { value: 'cannot-connect', title: 'cannot connect' },
  { value: 'reaches-nothing', title: 'connects, and reaches nothing' },
  { value: 'reaches-some', title: 'reaches this and not that' },
  { value: 'names-fail', title: 'names do not resolve' },
  { value: 'slow', title: 'slow, or large pages hang' },
  { value: 'drops', title: 'drops after a while' },
]
const route = useRoute()
const router = useRouter()
const plan = usePlan()
const users = ref<string[]>([])
const user = ref('')
const complaint = ref<Complaint>('cannot-connect')
const to = ref('')
const service = ref('tcp/80')
const found = ref<Schemas['Diagnosis']>()
const problem = ref('')
const busy = ref(false)

onMounted(async () => {
  const { data } = await api.GET('/api/v1/users')
  users.value = (data?.users ?? []).map((u) => u.name)
  user.value = String(route.query.user ?? users.value[0] ?? '')
  complaint.value = complaints.find((c) => c.value === route.query.complaint)?.value ?? 'cannot-connect'
  to.value = String(route.query.to ?? '')
})

const body = computed(() => ({
  user: user.value,
  complaint: complaint.value,
  to: complaint.value === 'reaches-some' || complaint.value === 'names-fail' ? to.value : '',
  service: complaint.value === 'reaches-some' ? service.value : '',
}))

async function look() {
  busy.value = true
  const { data, error } = await api.POST('/api/v1/diagnose', { body: body.value })
  busy.value = false
  problem.value = error ? words(error) : ''
  found.value = data
}

async function save() {
  const { data, error } = await api.POST('/api/v1/diagnose/bundle', { body: body.value, parseAs: 'blob' })
  problem.value = error ? words(error) : ''
  if (!data) return
  const link = document.createElement('a')
  link.href = URL.createObjectURL(data as unknown as Blob)
  link.download = `evidence-${user.value}.zip`
  link.click()
  URL.revokeObjectURL(link.href)
}

/** Puts the fix into the console's draft, and goes there to look at it. */
async function apply(mend: Edit[], setting?: string) {
  if (!plan.loaded) await plan.load()
  problem.value = await plan.edit(mend)
  if (!problem.value) await router.push({ path: '/plan', query: settingQuery(setting ?? mend[0].path) })
}

const sureness = (n: number) =>
  n >= 90 ? { word: 'certain', color: 'bad' } : n >= 60 ? { word: 'likely', color: 'caution' } : { word: 'possible', color: 'quiet' }
</script>

<template>
  <div class="px-5 py-3">
    <h1 class="mb-3">From a complaint to its cause</h1>
    <form class="d-flex ga-3 flex-wrap align-center mb-4" @submit.prevent="look">
      <v-combobox v-model="user" :items="users" label="Who complains" density="compact" variant="outlined" hide-details max-width="230" />
      <v-select
        v-model="complaint"
        :items="complaints"
        label="What they say"
        density="compact"
        variant="outlined"
        hide-details
        max-width="290"
      />
      <v-text-field
        v-if="complaint === 'reaches-some' || complaint === 'names-fail'"
        v-model="to"
        label="What they do not reach"
        placeholder="records"
        max-width="210"
      />
      <v-text-field v-if="complaint === 'reaches-some'" v-model="service" label="By which service" max-width="140" />
      <v-btn type="submit" color="primary" :loading="busy" :disabled="!user">Find the cause</v-btn>
      <v-btn v-if="found" variant="outlined" title="Everything that was looked at, without secrets" @click="save">Save the evidence</v-btn>
    </form>
    <v-alert v-if="problem" type="error" variant="tonal" role="alert" class="mb-3">{{ problem }}</v-alert>
    <p v-if="busy" class="quiet">looking at the journal, the plan and live counters, and trying as this person would…</p>
    <template v-if="found && !busy">
      <p class="quiet mb-2">{{ found.user }} · {{ found.class }} · {{ found.passage ? 'passage ' + found.passage : 'no passage' }}</p>
      <article v-for="(c, i) in found.causes" :key="c.code + i" class="cause" :class="{ first: i === 0 }">
        <div class="d-flex align-center ga-3">
          <v-chip :color="sureness(c.sure).color" size="small" variant="tonal">{{ sureness(c.sure).word }} · {{ c.sure }}</v-chip>
          <b>{{ c.words }}</b>
        </div>
        <p class="fix">→ {{ c.fix }}</p>
        <div class="d-flex ga-3 align-center flex-wrap">
          <v-btn v-if="c.mend?.length" size="small" color="primary" @click="apply(c.mend, c.setting)">Apply this fix to a draft</v-btn>
          <router-link v-if="c.setting" class="mono" :to="{ path: '/plan', query: settingQuery(c.setting) }">{{ c.setting }}</router-link>
        </div>
        <ul>
          <li v-for="(e, k) in c.evidence" :key="k">{{ e }}</li>
        </ul>
      </article>
      <details class="quiet mt-3">
        <summary>What was looked at</summary>
        <p v-for="(l, i) in found.looked" :key="i">{{ l }}</p>
      </details>
    </template>
  </div>
</template>

<style scoped>
.quiet {
  color: rgb(var(--v-theme-quiet));
  font-size: 13px;
}
.quiet p {
  margin: 0;
}
.cause {
  border-left: 4px solid rgba(128, 140, 160, 0.5);
  background: rgb(var(--v-theme-surface));
  padding: 8px 14px;
  margin-bottom: 8px;
  font-size: 13.5px;
}
.cause.first {
  border-color: rgb(var(--v-theme-lantern));
}
.fix {
  margin: 4px 0;
}
ul {
  margin: 6px 0 0 18px;
  color: rgb(var(--v-theme-quiet));
  font-size: 12.5px;
}
summary {
  cursor: pointer;
}
</style>
