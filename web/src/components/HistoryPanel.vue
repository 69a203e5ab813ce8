<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, words, type Schemas } from '../api'
import { reachWords } from '../states'
import { usePlan } from '../plan'

const plan = usePlan()
const search = ref('')
const from = ref(0)
const to = ref(0)
const difference = ref<Schemas['Difference']>()
const problem = ref('')

const shown = computed(() =>
  plan.revisions.filter((r) => `${r.number} ${r.message} ${r.author}`.toLowerCase().includes(search.value.toLowerCase())),
)

watch(
  () => plan.revisions,
  (all) => {
    to.value = all[0]?.number ?? 0
    from.value = all[1]?.number ?? to.value
  },
  { immediate: true },
)

watch(
  [from, to],
  async () => {
    if (!from.value || !to.value) return
    const { data, error } = await api.GET('/api/v1/difference', { params: { query: { from: from.value, to: to.value } } })
    difference.value = data
    problem.value = error ? words(error) : ''
  },
  { immediate: true },
)

async function restore(n: number) {
  const { data } = await api.GET('/api/v1/revisions/{number}', { params: { path: { number: n } } })
  if (data?.text) await plan.replace(data.text)
}

const line = (c: Schemas['PlanChange']) =>
  c.kind === 'made'
    ? `+ ${c.path} ${c.after ?? ''}`
    : c.kind === 'renamed'
      ? `≠ ${c.path} is called ${c.after ?? ''}`
      : c.kind === 'removed'
        ? `− ${c.path} ${c.before ?? ''}`
        : `≠ ${c.path}: ${c.before ?? ''} → ${c.after ?? ''}`
</script>

<template>
  <section aria-label="History">
    <div class="d-flex align-center ga-3 mb-2">
      <h2>History</h2>
      <v-spacer />
      <v-text-field v-model="search" label="Search" max-width="220" />
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" role="alert">{{ problem }}</v-alert>
    <table class="plain">
      <thead>
        <tr>
          <th>From</th>
          <th>To</th>
          <th>Revision</th>
          <th>By</th>
          <th>Why</th>
          <th>Accepted warnings</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown.slice(0, 100)" :key="r.number">
          <td><input v-model="from" type="radio" name="from" :value="r.number" :aria-label="`Compare from ${r.number}`" /></td>
          <td><input v-model="to" type="radio" name="to" :value="r.number" :aria-label="`Compare to ${r.number}`" /></td>
          <td>
            <b>{{ r.number }}</b>{{ r.number === plan.running?.number ? ' runs' : '' }}<br /><small>{{
              new Date(r.at).toLocaleString()
            }}</small>
          </td>
          <td>{{ r.author }}</td>
          <td>{{ r.message }}</td>
          <td>
            <p v-for="a in r.accepted" :key="a.finding" class="accepted">
              {{ a.problem || a.finding }}<em v-if="a.reason"> — “{{ a.reason }}”</em>
            </p>
          </td>
          <td class="text-right"><v-btn size="x-small" variant="outlined" @click="restore(r.number)">Put into the draft</v-btn></td>
        </tr>
      </tbody>
    </table>
    <section v-if="difference && from !== to" id="difference" class="mt-4">
      <h3>From revision {{ from }} to {{ to }}</h3>
      <p v-for="(c, i) in difference.changes" :key="i" class="mono">{{ line(c) }}</p>
      <p v-if="!difference.changes.length">Nothing but comments or layout.</p>
      <div v-for="r in difference.reach" :key="r.class">
        <b>{{ r.class }}</b>
        <p v-for="(l, i) in r.gains" :key="'g' + i" class="text-good">+ gains {{ reachWords(l) }}</p>
        <p v-for="(l, i) in r.loses" :key="'l' + i" class="text-bad">− loses {{ reachWords(l) }}</p>
      </div>
    </section>
  </section>
</template>

<style scoped>
h2 {
  font-size: 18px;
}
h3 {
  font-size: 14.5px;
}
p,
b {
  font-size: 12.5px;
  margin: 0;
}
.accepted {
  max-width: 300px;
}
</style>
