<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { api, type Schemas } from '../api'
import { usePlan } from '../plan'
import { stepOf, type Field, type Step } from '../steps'
import AskMirror from './AskMirror.vue'
import FindingCard from './FindingCard.vue'
import ObjectForm from './ObjectForm.vue'
import ObjectTable from './ObjectTable.vue'
import PoolUsage from './PoolUsage.vue'
import AuthoritiesPanel from './AuthoritiesPanel.vue'
import SourcesPanel from './SourcesPanel.vue'
import TrustPanel from './TrustPanel.vue'
import WhyNotes from './WhyNotes.vue'

const props = defineProps<{ step: Step; object?: string }>()
const emit = defineEmits<{ open: [string | undefined] }>()
const plan = usePlan()
const search = ref<string | null>('')
const making = ref('')
const onlyFound = ref(false)

watch(
  () => props.step.id,
  () => {
    search.value = making.value = ''
    onlyFound.value = false
    void hit()
  },
)

const findings = computed(() => (plan.checked?.findings ?? []).filter((f) => f.step === props.step.id))
const sections = computed(() =>
  props.step.kinds.map((kind) => ({
    list: plan.reading?.lists.find((l) => l.kind === kind) ?? ({ kind, columns: [], rows: [] } as Schemas['OutlineList']),
    form: plan.forms.find((f) => f.kind === kind),
  })),
)
const opened = computed(() => (props.object ? { kind: props.object.split('/')[0], name: props.object.split('/')[1] } : undefined))

// How many flows each rule of the running plan decided about.
const hits = ref<Record<string, string>>({})
async function hit() {
  if (!props.step.kinds.includes('rules')) return
  const { data } = await api.GET('/api/v1/status')
  hits.value = Object.fromEntries(Object.entries(data?.rules ?? {}).map(([name, r]) => [name, String(r.flows)]))
}
onMounted(hit)

/** Settings of the whole plan that belong to the step. */
const valueOf = (f: Field) => (plan.reading?.plan as Record<string, unknown> | undefined)?.[f.name] as string | undefined

async function setWhole(f: Field, e: Event) {
  const value = (e.target as HTMLInputElement).value.trim()
  const plain = f.type === 'number' || /^[A-Za-z][\w ./-]*$/.test(value) ? value : JSON.stringify(value)
  plan.problem = await plan.edit([value ? { op: 'set', path: f.name, value: plain } : { op: 'remove', path: f.name }])
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
    <WhyNotes :about="(path) => stepOf(path) === step.id" />
    <details v-if="findings.length" class="findings" :open="findings.some((f) => f.severity !== 'note')">
      <summary>{{ findings.length }} {{ findings.length === 1 ? 'finding' : 'findings' }} here</summary>
      <FindingCard
        v-for="f in findings.slice(0, 40)"
        :key="f.code + f.path + f.problem"
        :finding="f"
        :link="f.path.includes('/') && step.kinds.includes(f.path.split('/')[0])"
        @refused="(w) => (plan.problem = w)"
      />
    </details>
    <div class="whole">
      <v-text-field
        v-for="f in step.whole"
        :id="'whole-' + f.name"
        :key="f.name"
        :model-value="valueOf(f) ?? ''"
        :label="f.name"
        :hint="f.doc + (f.example ? ` Such as ${f.example}.` : '')"
        persistent-hint
        @change="setWhole(f, $event)"
      />
    </div>
    <p v-if="step.id === 'people'" class="about mt-1">
      Who is in which group is kept beside the plan, under <router-link to="/people">People</router-link>.
    </p>
    <TrustPanel v-if="step.id === 'trust'" />
    <AuthoritiesPanel v-if="step.id === 'trust'" />
    <SourcesPanel v-if="step.id === 'people'" />
    <AskMirror v-if="step.id === 'site'" class="my-3" @asked="plan.look()" />
    <div v-if="step.kinds.length" class="d-flex ga-2 align-center my-2">
      <v-text-field id="search" v-model="search" label="Search names and settings" clearable max-width="420" />
      <v-checkbox v-model="onlyFound" label="Only with ✗ or !" density="compact" hide-details />
    </div>
    <div v-for="s in sections" :key="s.list.kind" class="kind">
      <div class="d-flex align-center">
        <h3>
          {{ s.list.kind }} <small>{{ s.list.rows.length }}</small>
        </h3>
        <v-spacer />
        <v-btn size="x-small" variant="outlined" :prepend-icon="mdiPlus" @click="making = s.list.kind">new {{ s.form?.one }}</v-btn>
      </div>
      <p v-if="!s.list.rows.length" class="about">{{ s.form?.doc }}</p>
      <ObjectTable
        v-else
        :list="s.list"
        :wanted="search ?? ''"
        :only-found="onlyFound"
        :beside="s.list.kind === 'rules' ? { title: 'flows', of: hits } : undefined"
        @open="(path) => emit('open', path)"
      />
    </div>
    <PoolUsage v-if="step.id === 'addresses'" />
  </section>
</template>

<style scoped>
.whole {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(300px, 1fr));
  gap: 8px 16px;
  margin-top: 8px;
}
.whole :deep(.v-input__details) {
  align-items: flex-start;
  min-height: 40px; /* two lines of what it is */
  overflow: visible;
}
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
.findings {
  margin-bottom: 8px;
  font-size: 12.5px;
}
.findings summary {
  cursor: pointer;
  font-weight: 600;
}
</style>
