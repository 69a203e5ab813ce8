<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { usePlan } from '../plan'
import { stepOf, summary, type PlanObject, type Step } from '../steps'
import FindingCard from './FindingCard.vue'
import ObjectForm from './ObjectForm.vue'
import PoolUsage from './PoolUsage.vue'
import TrustPanel from './TrustPanel.vue'

const props = defineProps<{ step: Step; object?: string }>()
const emit = defineEmits<{ open: [string | undefined] }>()
const plan = usePlan()
const search = ref('')
const most = ref(60)
const making = ref('')
const onlyFound = ref(false)

watch(
  () => props.step.id,
  () => {
    search.value = making.value = ''
    most.value = 60
    onlyFound.value = false
  },
)

const findings = computed(() => (plan.checked?.findings ?? []).filter((f) => stepOf(f.path) === props.step.id))
const signs = { stop: '✗', warn: '!', note: '·' }
const worst = computed(() => {
  const out: Record<string, 'stop' | 'warn' | 'note'> = {}
  for (const f of [...(plan.checked?.findings ?? [])].reverse()) out[f.path.split('/').slice(0, 2).join('/')] = f.severity
  return out
})

interface Row {
  name: string
  words: string
  path: string
}
const sections = computed(() =>
  props.step.kinds.map((kind) => {
    const source =
      kind === 'passages'
        ? plan.reading?.settled
        : (plan.reading?.plan as unknown as Record<string, PlanObject[] | undefined> | undefined)?.[kind]
    const all: Row[] = ((source ?? []) as unknown as PlanObject[]).map((o) => ({
      name: o.name,
      words: summary(o),
      path: `${kind}/${o.name}`,
    }))
    const wanted = (search.value ?? '').toLowerCase() // null once it was cleared
    const rows = all.filter(
      (r) =>
        (r.name + ' ' + r.words).toLowerCase().includes(wanted) && (!onlyFound.value || ['stop', 'warn'].includes(worst.value[r.path])),
    )
    return { kind, total: all.length, rows, about: plan.forms.find((f) => f.kind === kind)?.doc ?? '' }
  }),
)
const single = (kind: string) => (kind === 'hours' ? 'hours' : kind === 'nat' ? 'entry' : kind.replace(/s$/, '').replace('-', ' '))
const opened = computed(() => (props.object ? { kind: props.object.split('/')[0], name: props.object.split('/')[1] } : undefined))

// Settings of the whole plan that belong to a step.
const whole: Record<string, { field: 'name' | 'time-zone'; label: string; hint: string }> = {
  site: { field: 'name', label: 'What the site is called', hint: '' },
  people: {
    field: 'time-zone',
    label: 'Time zone',
    hint: 'In which hours count, by its IANA name, such as Atlantic/Reykjavik; UTC if empty.',
  },
}

async function setWhole(field: 'name' | 'time-zone', e: Event) {
  const value = (e.target as HTMLInputElement).value.trim()
  const plain = /^[A-Za-z][\w ./-]*$/.test(value) ? value : JSON.stringify(value)
  plan.problem = await plan.edit([value ? { op: 'set', path: field, value: plain } : { op: 'remove', path: field }])
}

function added(kind: string, name: string) {
  making.value = ''
  emit('open', `${kind}/${name}`)
}
</script>

<template>
  <ObjectForm v-if="making" :key="'new ' + making" :kind="making" @close="making = ''" @added="(n) => added(making, n)" />
  <ObjectForm
    v-else-if="opened"
    :key="object"
    :kind="opened.kind"
    :name="opened.name"
    @close="emit('open', undefined)"
    @added="(n) => added(opened!.kind, n)"
  />
  <section v-else :aria-label="step.title">
    <h2>{{ step.title }}</h2>
    <p class="about">{{ step.about }}</p>
    <details v-if="findings.length" class="findings" :open="findings.some((f) => f.severity !== 'note')">
      <summary>{{ findings.length }} {{ findings.length === 1 ? 'finding' : 'findings' }} here</summary>
      <FindingCard v-for="f in findings.slice(0, 40)" :key="f.code + f.path + f.problem" :finding="f" @refused="(w) => (plan.problem = w)">
        <v-btn
          v-if="step.kinds.includes(f.path.split('/')[0]) && f.path.includes('/')"
          size="x-small"
          variant="text"
          @click="emit('open', f.path.split('/').slice(0, 2).join('/'))"
          >open {{ f.path.split('/')[1] }}</v-btn
        >
      </FindingCard>
    </details>
    <v-text-field
      v-if="whole[step.id]"
      :id="'whole-' + whole[step.id].field"
      class="mt-2"
      :model-value="plan.reading?.plan[whole[step.id].field] ?? ''"
      :label="whole[step.id].label"
      :hint="whole[step.id].hint"
      @change="setWhole(whole[step.id].field, $event)"
    />
    <p v-if="step.id === 'people'" class="about mt-1">
      Who is in which group is kept beside the plan, under <router-link to="/people">People</router-link>.
    </p>
    <TrustPanel v-if="step.id === 'trust'" />
    <div v-if="step.kinds.length" class="d-flex ga-2 align-center my-2">
      <v-text-field id="search" v-model="search" label="Search names and settings" clearable />
      <v-checkbox v-model="onlyFound" label="Only with ✗ or !" density="compact" hide-details />
    </div>
    <div v-for="s in sections" :key="s.kind" class="kind">
      <div class="d-flex align-center">
        <h3>
          {{ s.kind }} <small>{{ s.rows.length < s.total ? `${s.rows.length} of ` : '' }}{{ s.total }}</small>
        </h3>
        <v-spacer />
        <v-btn size="x-small" variant="outlined" :prepend-icon="mdiPlus" @click="making = s.kind">new {{ single(s.kind) }}</v-btn>
      </div>
      <p v-if="!s.total" class="about">{{ s.about }}</p>
      <table v-else class="rows">
        <tbody>
          <tr
            v-for="r in s.rows.slice(0, most)"
            :key="r.path"
            tabindex="0"
            :aria-label="r.path"
            @click="emit('open', r.path)"
            @keydown.enter="emit('open', r.path)"
          >
            <td class="sign" :class="worst[r.path]">{{ worst[r.path] && worst[r.path] !== 'note' ? signs[worst[r.path]] : '' }}</td>
            <td class="name">{{ r.name }}</td>
            <td class="words">{{ r.words }}</td>
          </tr>
        </tbody>
      </table>
      <v-btn v-if="s.rows.length > most" size="x-small" variant="text" @click="most += 200">{{ s.rows.length - most }} more</v-btn>
    </div>
    <PoolUsage v-if="step.id === 'addresses'" />
  </section>
</template>

<style scoped>
h2 {
  font-size: 18px;
  margin: 0;
}
h3 {
  font-size: 13.5px;
}
h3 small {
  color: rgb(var(--v-theme-quiet));
  font-weight: 400;
}
.about {
  font-size: 12.5px;
  color: rgb(var(--v-theme-quiet));
  margin: 0 0 6px;
}
.kind {
  margin-bottom: 12px;
}
.rows {
  width: 100%;
  border-collapse: collapse;
  font-size: 12.5px;
}
.rows tr {
  cursor: pointer;
  border-top: 1px solid rgba(128, 140, 160, 0.25);
}
.rows tr:hover,
.rows tr:focus-visible {
  background: rgba(255, 182, 39, 0.13);
}
.rows td {
  padding: 4px 6px;
  vertical-align: top;
}
.sign {
  width: 16px;
  font-weight: 700;
}
.sign.stop {
  color: rgb(var(--v-theme-bad));
}
.sign.warn {
  color: rgb(var(--v-theme-caution));
}
.name {
  width: 1%;
  white-space: nowrap;
  font-weight: 600;
}
.words {
  color: rgb(var(--v-theme-quiet));
  overflow-wrap: anywhere;
}
.findings {
  margin-bottom: 8px;
  font-size: 12.5px;
}
.findings summary {
  cursor: pointer;
  font-weight: 600;
}
</style>
