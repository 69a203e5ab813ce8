<script setup lang="ts">
import { mdiRedo, mdiUndo } from '@mdi/js'
import { computed, defineAsyncComponent, nextTick, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, words } from '../api'
import { sure } from '../ask'
import BeginForm from '../components/BeginForm.vue'
import CommitDialog from '../components/CommitDialog.vue'
import HistoryPanel from '../components/HistoryPanel.vue'
import PlanPicture from '../components/PlanPicture.vue'
import StepPanel from '../components/StepPanel.vue'
import { draftName, usePlan } from '../plan'
import { stepOf, steps } from '../steps'

// The editor is the largest part of the page: forms do not wait for it.
const editor = import('../components/DocumentEditor.vue')
const DocumentEditor = defineAsyncComponent(() => editor)
const ConflictDialog = defineAsyncComponent(() => import('../components/ConflictDialog.vue'))

const plan = usePlan()
const route = useRoute()
const router = useRouter()
const committing = ref(false)
const rebasing = ref(false)
const done = ref('')
const undone = ref('')

const at = computed(() => String(route.query.at ?? 'picture'))
const step = computed(() => steps.value.find((s) => s.id === at.value))
const object = computed(() => (route.query.object ? String(route.query.object) : undefined))
const line = computed(() => {
  return object.value ? plan.reading?.lines[object.value] : undefined
})

// On a phone the steps lie in a row that scrolls: the one that is open is in sight.
watch(
  [at, () => plan.loaded],
  async () => {
    await nextTick()
    document.querySelector('.steps .here')?.scrollIntoView?.({ inline: 'center', block: 'nearest' })
  },
  { immediate: true },
)

function go(to: string, what?: string) {
  void router.replace({ query: { at: to, ...(what ? { object: what } : {}) } })
}
function open(path: string | undefined) {
  if (!path) return go(at.value)
  const short = path.split('/').slice(0, 2).join('/')
  const home = steps.value.find((s) => s.kinds.includes(short.split('/')[0]))
  go(home?.id ?? stepOf(path), home && short.includes('/') ? short : undefined)
}

onMounted(() => {
  void plan.load()
  window.addEventListener('keydown', keys)
})
onUnmounted(() => window.removeEventListener('keydown', keys))

function keys(e: KeyboardEvent) {
  const typing = e.target instanceof HTMLTextAreaElement || e.target instanceof HTMLInputElement
  if (!(e.ctrlKey || e.metaKey) || typing) return
  if (e.key === 'z') void (e.shiftKey ? plan.redo() : plan.undo())
}

async function review() {
  if (await plan.save()) {
    await plan.look() // people may have come meanwhile
    committing.value = true
  }
}

async function discard() {
  if (await sure('Forget this draft and go back to what runs?', 'Forget')) await plan.discard()
}

async function keep() {
  const { error } = await api.POST('/api/v1/revisions/{number}/keep', { params: { path: { number: plan.trial?.revision ?? 0 } } })
  await plan.load()
  if (error) plan.problem = words(error)
}

function rebase() {
  committing.value = false
  rebasing.value = true
}

async function committed(n: number, round: number) {
  plan.explain([])
  committing.value = false
  done.value = `Revision ${n} runs.`
  undone.value = ''
  plan.before = plan.undone = []
  await plan.load()
  if (round) await tried(n, round)
}

const pause = () => new Promise((go) => window.setTimeout(go, 700))

/** Waits until a revision that is being tried is kept, or gone back from, and tells which and why. */
async function tried(n: number, round: number) {
  for (;;) {
    const [r, t] = await Promise.all([api.GET('/api/v1/rounds/{id}', { params: { path: { id: round } } }), api.GET('/api/v1/trial')])
    if (!r.data || !t.data) return
    if (r.data.state !== 'running' && t.data.revision !== n) break
    done.value = `Revision ${n} runs, and is being tried: ${r.data.done} of ${r.data.of} logins.`
    await pause()
  }
  await plan.load()
  if (plan.running?.number === n) done.value = `Revision ${n} was tried and is kept: nothing fails that held before.`
  else {
    done.value = ''
    undone.value = `Revision ${n}: ${plan.running?.message}`
  }
}

async function begin(text: string) {
  await plan.replace(text)
  done.value = 'A plan is proposed. Go through its steps: why each choice is as it is stands beside what it is about.'
}
</script>

<template>
  <div class="page" :class="{ free: !plan.text }">
    <div class="d-flex align-center ga-3 mb-2 flex-wrap">
      <h1>Plan</h1>
      <v-chip v-if="plan.running" variant="tonal" size="small"
        >runs: revision {{ plan.running.number }}, by {{ plan.running.author }}</v-chip
      >
      <v-chip v-if="plan.changed" color="caution" variant="tonal" size="small"
        >draft {{ plan.draft?.behind ? 'is behind a newer revision' : 'differs from what runs' }}</v-chip
      >
      <v-btn v-if="plan.draft?.behind" size="small" color="primary" @click="rebasing = true">Rebase</v-btn>
      <span v-if="plan.checked && plan.text" id="counts" class="counts">
        <b :class="{ 'text-bad': plan.checked.stops }">✗ {{ plan.checked.stops }} stop</b> · ! {{ plan.checked.warnings }} warn ·
        {{ plan.checked.notes }} note
      </span>
      <v-spacer />
      <v-btn :icon="mdiUndo" size="small" variant="outlined" :disabled="!plan.before.length" aria-label="Undo" @click="plan.undo" />
      <v-btn :icon="mdiRedo" size="small" variant="outlined" :disabled="!plan.undone.length" aria-label="Redo" @click="plan.redo" />
      <v-btn variant="outlined" size="small" :disabled="!plan.draft" @click="discard">Discard</v-btn>
      <v-btn id="review" color="primary" :disabled="!plan.changed" @click="review">Review and commit</v-btn>
    </div>
    <v-alert v-if="plan.problem" type="error" variant="tonal" density="compact" class="mb-2" role="alert">
      {{ plan.problem }}
      <v-btn v-if="plan.stale" size="x-small" variant="outlined" class="ml-2" @click="plan.load">Load it again</v-btn>
    </v-alert>
    <v-alert v-if="plan.trial" id="on-trial" type="warning" variant="tonal" density="compact" class="mb-2">
      Revision {{ plan.trial.revision }} is on trial: at {{ new Date(plan.trial.until ?? '').toLocaleTimeString() }} it goes back to
      revision {{ plan.trial.back }} by itself.
      <v-btn id="keep" size="small" color="primary" class="ml-3" @click="keep">Keep it</v-btn>
    </v-alert>
    <v-alert v-if="undone" type="warning" variant="tonal" density="compact" class="mb-2" closable role="alert" @click:close="undone = ''">{{
      undone
    }}</v-alert>
    <v-alert v-if="done" type="success" variant="tonal" density="compact" class="mb-2" closable @click:close="done = ''">{{
      done
    }}</v-alert>
    <BeginForm v-if="plan.loaded && !plan.running && !plan.draft && !plan.text" @begun="begin" />
    <div v-if="plan.text" class="body" :class="{ both: step && object }">
      <nav aria-label="Steps" class="steps">
        <button :class="{ here: at === 'picture' }" @click="go('picture')">Picture</button>
        <button v-for="(s, i) in steps" :id="'step-' + s.id" :key="s.id" :class="{ here: at === s.id }" :title="s.about" @click="go(s.id)">
          <span class="number">{{ i + 1 }}</span> {{ s.title }}
          <span class="tally">
            <b v-if="plan.found[s.id]?.stop" class="stop">✗{{ plan.found[s.id].stop }}</b>
            <b v-if="plan.found[s.id]?.warn" class="warn">!{{ plan.found[s.id].warn }}</b>
            <span v-if="plan.found[s.id]?.note">·{{ plan.found[s.id].note }}</span>
          </span>
        </button>
        <button id="step-document" :class="{ here: at === 'document' }" @click="go('document')">Document</button>
        <button id="step-history" :class="{ here: at === 'history' }" @click="go('history')">History</button>
      </nav>
      <v-alert
        v-if="plan.checked?.faults.length && at !== 'document'"
        type="error"
        variant="tonal"
        density="compact"
        class="faults"
        role="alert"
      >
        The document is no plan at the moment, so the forms show what it last was: line {{ plan.checked.faults[0].line }},
        {{ plan.checked.faults[0].problem }}; expected {{ plan.checked.faults[0].expected }}.
      </v-alert>
      <main class="middle" :class="{ plain: at === 'document' }">
        <PlanPicture v-if="at === 'picture'" @open="open" />
        <HistoryPanel v-else-if="at === 'history'" />
        <DocumentEditor v-else-if="at === 'document'" notes />
        <StepPanel v-else-if="step" :step="step" :object="object" @open="open" />
      </main>
      <DocumentEditor v-if="step && object" :line="line" :spot="!!object" class="beside" />
    </div>
    <CommitDialog v-if="committing" :draft="draftName" @close="committing = false" @rebase="rebase" @committed="committed" />
    <ConflictDialog v-if="rebasing" @close="rebasing = false" />
  </div>
</template>

<style scoped>
.page {
  display: flex;
  flex-direction: column;
  height: calc(100vh - 52px);
  padding: 10px 18px 12px;
}
.page.free {
  height: auto;
}
.counts {
  font-size: 13px;
}
.body {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 152px minmax(0, 1fr);
  grid-template-rows: auto minmax(0, 1fr);
  gap: 0 14px;
}
.body.both {
  grid-template-columns: 152px minmax(0, 1.05fr) minmax(0, 1fr);
}
.steps {
  grid-row: 1 / 3;
  display: flex;
  flex-direction: column;
  border-right: 1px solid rgba(128, 140, 160, 0.35);
  overflow-y: auto;
}
.steps button {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  cursor: pointer;
  display: flex;
  gap: 8px;
  align-items: baseline;
  text-align: left;
  padding: 7px 8px 7px 4px;
  font-size: 13.5px;
  border-right: 3px solid transparent;
}
.steps button.here {
  font-weight: 650;
  border-color: rgb(var(--v-theme-lantern));
  background: rgba(255, 182, 39, 0.12);
}
.number {
  color: rgb(var(--v-theme-quiet));
  font-size: 12px;
  width: 12px;
}
.tally {
  margin-left: auto;
  font-size: 11.5px;
  color: rgb(var(--v-theme-quiet));
  display: flex;
  gap: 4px;
}
.tally .stop {
  color: rgb(var(--v-theme-bad));
}
.tally .warn {
  color: rgb(var(--v-theme-caution));
}
.faults {
  grid-column: 2 / -1;
  margin-bottom: 8px;
}
.middle {
  grid-row: 2;
  overflow-y: auto;
  padding-right: 6px;
}
.middle.plain {
  overflow: hidden;
}
.beside {
  grid-row: 2;
  min-height: 0;
}
/* On a phone the steps lie above what they hold, and the document below a form. */
@media (max-width: 900px) {
  .page {
    height: auto;
    padding: 8px 10px;
  }
  .body,
  .body.both {
    display: block;
  }
  .steps {
    flex-direction: row;
    border-right: 0;
    border-bottom: 1px solid rgba(128, 140, 160, 0.35);
    overflow-x: auto;
    margin-bottom: 8px;
  }
  .steps button {
    white-space: nowrap;
    border-right: 0;
    border-bottom: 3px solid transparent;
  }
  .middle.plain,
  .beside {
    height: 560px;
  }
}
</style>
