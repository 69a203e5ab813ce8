<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { api, codeOf, words, type Review, type Schemas } from '../api'
import { reachWords } from '../states'
import FindingCard from './FindingCard.vue'
import { usePlan } from '../plan'

const props = defineProps<{ draft: string }>()
const plan = usePlan()
const emit = defineEmits<{ close: []; committed: [number, number]; rebase: [] }>()
const review = ref<Review>()
const problem = ref('')
const behind = ref(false)
const message = ref('')
const reasons = ref<Record<string, string>>({})
const idOf = (f: { code: string; path: string }) => `${f.code}@${f.path}`
const busy = ref(false)
const minutes = ref(0)
/** That the trial does not judge all that the change touches is known, and accepted. */
const partial = ref(false)
/** What it does not judge, where a trial is to decide. */
const stopping = computed(() => (review.value?.kits ?? []).filter((k) => k.stops))
const older = computed(() => (review.value?.kits ?? []).filter((k) => !k.stops))
const unjudged = computed(() => (minutes.value < 0 ? (review.value?.unjudged ?? []) : []))
const trials = [
  { title: 'It stays', value: 0 },
  { title: 'It is tried, and goes back if what held fails', value: -1 },
  { title: 'Goes back after 5 minutes unless kept', value: 5 },
  { title: 'Goes back after 30 minutes unless kept', value: 30 },
]

const approvals = ref<Schemas['Approvals']>()

onMounted(load)

async function approve() {
  const { data, error } = await api.POST('/api/v1/drafts/{name}/approvals', {
    params: { path: { name: props.draft } },
    body: { version: plan.draft?.version ?? 0 },
  })
  problem.value = error ? words(error) : ''
  if (data) approvals.value = data
}

async function load() {
  const { data, error } = await api.GET('/api/v1/drafts/{name}/review', { params: { path: { name: props.draft } } })
  review.value = data
  problem.value = error ? words(error) : ''
  behind.value = codeOf(error) === 'draft-behind'
  approvals.value = (await api.GET('/api/v1/drafts/{name}/approvals', { params: { path: { name: props.draft } } })).data
}

const stops = computed(() => review.value?.findings.filter((f) => f.severity === 'stop') ?? [])
/** Warnings that were accepted before, and of which nothing changed. */
const settled = computed(() => review.value?.accepted ?? [])
const warnings = computed(
  () => review.value?.findings.filter((f) => f.severity === 'warn' && !settled.value.some((a) => a.finding === idOf(f))) ?? [],
)
/** Warnings beyond those that are listed: they are accepted together. */
const more = computed(() => (review.value?.warnings ?? 0) - (review.value?.findings.filter((f) => f.severity === 'warn').length ?? 0))
const ready = computed(
  () =>
    review.value &&
    !review.value.stops &&
    message.value.trim() !== '' &&
    (!unjudged.value.length || partial.value) &&
    warnings.value.every((w) => (reasons.value[idOf(w)] ?? '').trim().length > 2) &&
    (more.value <= 0 || (reasons.value.all ?? '').trim().length > 2),
)

async function commit() {
  busy.value = true
  const { data, error } = await api.POST('/api/v1/drafts/{name}/commit', {
    params: { path: { name: props.draft } },
    body: {
      message: message.value,
      version: plan.draft?.version ?? 0,
      accept: [...warnings.value.map(idOf), ...(more.value > 0 ? ['all'] : [])].map((id) => ({ finding: id, reason: reasons.value[id] })),
      for: Math.max(0, minutes.value) * 60,
      try: minutes.value < 0 ? {} : undefined,
      'allow-partial-trial': (minutes.value < 0 && partial.value) || undefined,
    },
  })
  busy.value = false
  behind.value = codeOf(error) === 'draft-behind'
  if (error) problem.value = words(error)
  else emit('committed', data.revision, data.round ?? 0)
}
</script>

<template>
  <v-dialog :model-value="true" max-width="980" scrollable @update:model-value="emit('close')">
    <v-card title="What this commit does">
      <v-card-text>
        <v-progress-linear v-if="!review && !problem" indeterminate />
        <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert" style="white-space: pre-line">
          {{ problem }}
          <v-btn v-if="behind" size="small" variant="outlined" class="mt-2" @click="emit('rebase')">Rebase the draft</v-btn>
        </v-alert>
        <v-alert v-if="approvals?.demanded" id="approvals" type="info" variant="tonal" density="compact" class="mb-3">
          Another administrator than who commits must approve this draft as it is:
          <b>{{ approvals.by.length ? `approved by ${approvals.by.join(', ')}` : 'nobody has yet' }}</b>
          <v-btn id="approve" size="small" variant="outlined" class="ml-3" @click="approve">Approve it</v-btn>
        </v-alert>
        <template v-if="review">
          <section v-if="review.faults.length || stops.length">
            <h3 class="text-bad">✗ It cannot be committed yet</h3>
            <p v-for="(f, i) in review.faults" :key="'f' + i">line {{ f.line }}: {{ f.problem }}</p>
            <FindingCard
              v-for="s in stops"
              :key="s.code + s.path"
              :finding="s"
              link
              @refused="(w) => (problem = w)"
              @mended="load"
              @left="emit('close')"
            />
          </section>
          <section v-if="review.first?.length" id="first">
            <h3>The first plan: who comes in, and reaches what</h3>
            <table class="first">
              <thead>
                <tr>
                  <th>who</th>
                  <th>comes in by</th>
                  <th>addresses</th>
                  <th>names by</th>
                  <th>into the tunnel</th>
                  <th>reaches</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="c in review.first" :key="c.group">
                  <td>
                    <b>{{ c.group }}</b>
                  </td>
                  <td>{{ c.by }}</td>
                  <td>{{ c.addresses }}</td>
                  <td>{{ c.names }}</td>
                  <td>{{ c.routes || 'nothing' }}</td>
                  <td>
                    <p v-for="(l, i) in c.reaches" :key="i" class="text-good">+ {{ reachWords(l) }}</p>
                    <p v-if="!c.reaches.length" class="text-bad">nothing: no rule permits them anything</p>
                  </td>
                </tr>
              </tbody>
            </table>
          </section>
          <section v-else>
            <h3>In the plan</h3>
            <ul>
              <li v-for="c in review.changes" :key="c" class="mono">{{ c }}</li>
            </ul>
            <p v-if="!review.changes.length">Nothing but comments or layout.</p>
          </section>
          <section v-if="!review.first?.length" id="for-whom">
            <h3>For people</h3>
            <p v-if="!review.reach.length">Nobody gains or loses reach.</p>
            <div v-for="r in review.reach" :key="r.class" class="mb-2">
              <b>{{ r.class }}</b> <small>{{ r.users.join(', ') }}</small>
              <p v-if="r.shut" class="text-bad">▲ loses all reach</p>
              <p v-for="(l, i) in r.gains" :key="'g' + i" class="text-good">+ gains {{ reachWords(l) }}</p>
              <p v-for="(l, i) in r.loses" :key="'l' + i" class="text-bad">− loses {{ reachWords(l) }}</p>
            </div>
            <p v-if="review.ends.length">
              Sessions that end, because their device must be told anew: <b>{{ review.ends.join(', ') }}</b>
            </p>
          </section>
          <section v-if="stopping.length || older.length" id="kits">
            <h3>Kits that people have</h3>
            <p v-for="k in stopping.slice(0, 12)" :key="k.user + k.platform" class="text-bad">
              ▲ stops working: {{ k.user }}, {{ k.platform }}: {{ k.why }}
            </p>
            <p v-if="stopping.length > 12" class="text-bad">▲ and {{ stopping.length - 12 }} more</p>
            <p v-if="older.length">
              {{ older.length }} go on working with older settings, such as that of {{ older[0]?.user }} for {{ older[0]?.platform }} ({{
                older[0]?.why
              }})
            </p>
          </section>
          <section v-if="unjudged.length" id="unjudged">
            <h3>! The trial cannot judge all that this change touches</h3>
            <p v-for="u in unjudged" :key="u.expectation + u.why">{{ u.expectation }} for {{ u.classes.join(', ') }}: {{ u.why }}</p>
            <v-checkbox v-model="partial" density="compact" hide-details label="Commit it all the same; the revision keeps that" />
          </section>
          <section v-if="settled.length">
            <h3>Accepted before, and unchanged since</h3>
            <p v-for="a in settled" :key="a.finding">
              ✓ {{ a.problem }} <small>accepted with revision {{ a.revision }}: {{ a.reason }}</small>
            </p>
          </section>
          <section v-if="warnings.length">
            <h3>! Say of each warning why it is accepted, or go back and mend it</h3>
            <div v-for="w in warnings" :key="w.code + w.path" class="mb-2">
              <FindingCard :finding="w" link @refused="(x) => (problem = x)" @mended="load" @left="emit('close')" />
              <v-text-field v-model="reasons[idOf(w)]" class="reason" label="Accepted because" hint="It stays with the revision." />
            </div>
            <v-text-field
              v-if="more > 0"
              v-model="reasons.all"
              class="reason"
              :label="`${more} more warnings are accepted because`"
              hint="It stays with the revision, for each of them."
            />
          </section>
        </template>
      </v-card-text>
      <v-card-actions class="pa-4">
        <v-text-field id="message" v-model="message" label="Why this change" autofocus />
        <v-select
          id="trial"
          v-model="minutes"
          :items="trials"
          label="Then"
          variant="outlined"
          density="compact"
          hide-details
          max-width="300"
        />
        <v-btn @click="emit('close')">Back</v-btn>
        <v-btn id="commit" color="primary" variant="flat" :disabled="!ready" :loading="busy" @click="commit">Commit</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
section {
  margin-bottom: 14px;
}
.first {
  width: 100%;
  border-collapse: collapse;
  font-size: 12.5px;
}
.first th,
.first td {
  text-align: left;
  vertical-align: top;
  padding: 3px 8px 3px 0;
  border-top: 1px solid rgba(128, 140, 160, 0.3);
}
h3 {
  font-size: 14px;
  margin-bottom: 4px;
}
ul {
  padding-left: 18px;
}
b {
  font-size: 13px;
}
li,
p {
  font-size: 13px;
  margin: 0;
}
</style>
