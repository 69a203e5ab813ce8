<script setup lang="ts">
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import { api, words, type Checked, type Draft, type Revision, type Trial } from '../api'
import BeginForm from '../components/BeginForm.vue'
import CommitDialog from '../components/CommitDialog.vue'
import { marginNotes, place, type MarginNote } from '../notes'

const lineHeight = 20
const name = 'console'
const draft = ref<Draft>()
const running = ref<Revision>()
const revisions = ref<Revision[]>([])
const text = ref('')
const saved = ref('')
const checked = ref<Checked>()
const problem = ref('')
const committing = ref(false)
const done = ref('')
const undo = ref<string[]>([])
const trial = ref<Trial>()
const loaded = ref(false)
const begun = ref(false)
const heights = ref<number[]>([])
const notesBox = ref<HTMLElement>()
let waiting = 0
let returning = 0

const lines = computed(() => text.value.split('\n').length)
const notes = computed(() => (checked.value ? marginNotes(checked.value) : []))
const tops = computed(() => place(notes.value.map((n, i) => ({ line: n.line, height: heights.value[i] ?? 56 })), lineHeight, 6))
const signs = { fault: '✗', stop: '✗', warn: '!', note: '·' }
const worst = computed(() => {
  const out: Record<number, string> = {}
  for (const n of [...notes.value].reverse()) if (!out[n.line] || n.severity === 'stop' || n.severity === 'fault') out[n.line] = n.severity
  return out
})
const changed = computed(() => (running.value?.text ?? '') !== text.value)

async function load() {
  const [{ data: newest }, { data: drafts }, { data: all }, { data: onTrial }] = await Promise.all([
    api.GET('/api/v1/revisions/{number}', { params: { path: { number: 0 } } }),
    api.GET('/api/v1/drafts'),
    api.GET('/api/v1/revisions'),
    api.GET('/api/v1/trial'),
  ])
  trial.value = onTrial?.revision ? onTrial : undefined
  window.clearTimeout(returning)
  if (trial.value?.until) returning = window.setTimeout(load, new Date(trial.value.until).getTime() - Date.now() + 1000)
  running.value = newest
  revisions.value = all ?? []
  draft.value = drafts?.find((d) => d.name === name)
  text.value = saved.value = draft.value?.text ?? newest?.text ?? ''
  loaded.value = true
  await check()
}
onMounted(load)

async function check() {
  const { data, error } = await api.POST('/api/v1/check', { body: { text: text.value } })
  problem.value = error ? words(error) : ''
  checked.value = data
  await nextTick()
  heights.value = [...(notesBox.value?.querySelectorAll<HTMLElement>('.margin') ?? [])].map((e) => e.offsetHeight)
}

async function save() {
  if (text.value === saved.value) return true
  const sent = text.value
  const { data, error } = await api.PUT('/api/v1/drafts/{name}', { params: { path: { name } }, body: { text: sent, version: draft.value?.version ?? 0 } })
  if (error) {
    problem.value = words(error)
    return false
  }
  draft.value = data
  saved.value = sent
  return true
}

// Saved and checked as one types.
watch(text, () => {
  window.clearTimeout(waiting)
  waiting = window.setTimeout(async () => {
    if (await save()) await check()
  }, 400)
})

async function review() {
  window.clearTimeout(waiting)
  if (await save()) {
    await check()
    committing.value = true
  }
}

async function discard() {
  if (!confirm('Forget this draft and go back to what runs?')) return
  await api.DELETE('/api/v1/drafts/{name}', { params: { path: { name } } })
  draft.value = undefined
  await load()
}

async function restore(n: number) {
  const { data } = await api.GET('/api/v1/revisions/{number}', { params: { path: { number: n } } })
  if (data?.text) text.value = data.text
}

async function keep() {
  const { error } = await api.POST('/api/v1/revisions/{number}/keep', { params: { path: { number: trial.value?.revision ?? 0 } } })
  problem.value = error ? words(error) : ''
  await load()
}

async function committed(n: number) {
  committing.value = false
  done.value = `Revision ${n} runs.`
  await load()
}

/** Applies the fix of a finding to the draft: one action, and undone like any other change. */
async function mend(note: MarginNote) {
  const { data, error } = await api.POST('/api/v1/edit', { body: { text: text.value, edits: note.mend } })
  problem.value = error ? words(error) : ''
  if (!data) return
  undo.value.push(text.value)
  text.value = data.text
}

function back() {
  const before = undo.value.pop()
  if (before !== undefined) text.value = before
}

function indent(e: KeyboardEvent) {
  const area = e.target as HTMLTextAreaElement
  area.setRangeText('  ', area.selectionStart, area.selectionEnd, 'end')
  text.value = area.value
}
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center ga-3 mb-3 flex-wrap">
      <h1>Plan</h1>
      <v-chip v-if="running" variant="tonal">runs: revision {{ running.number }}, by {{ running.author }}</v-chip>
      <v-chip v-if="changed" color="caution" variant="tonal">draft {{ draft?.behind ? 'is behind a newer revision' : 'differs from what runs' }}</v-chip>
      <span v-if="checked && text" id="counts" class="counts">
        <b :class="{ 'text-bad': checked.stops }">✗ {{ checked.stops }} stop</b> · ! {{ checked.warnings }} warn · {{ checked.notes }} note
      </span>
      <v-spacer />
      <v-menu>
        <template #activator="{ props: p }"><v-btn v-bind="p" variant="outlined">History</v-btn></template>
        <v-list density="compact" max-height="400">
          <v-list-item v-for="r in revisions" :key="r.number" :title="`${r.number} · ${r.message || 'no message'}`" :subtitle="`${r.author}, ${new Date(r.at).toLocaleString()} — put into the draft`" @click="restore(r.number)" />
        </v-list>
      </v-menu>
      <v-btn variant="outlined" :disabled="!undo.length" @click="back">Undo fix</v-btn>
      <v-btn variant="outlined" :disabled="!draft" @click="discard">Discard</v-btn>
      <v-btn id="review" color="primary" :disabled="!changed" @click="review">Review and commit</v-btn>
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert">{{ problem }}</v-alert>
    <v-alert v-if="trial" type="warning" variant="tonal" class="mb-3" id="on-trial">
      Revision {{ trial.revision }} is on trial: at {{ new Date(trial.until ?? '').toLocaleTimeString() }} it goes back to revision {{ trial.back }} by itself.
      <v-btn id="keep" size="small" color="primary" class="ml-3" @click="keep">Keep it</v-btn>
    </v-alert>
    <v-alert v-if="done" type="success" variant="tonal" class="mb-3" closable @click:close="done = ''">{{ done }}</v-alert>
    <BeginForm v-if="loaded && !running && (begun || (!draft && !text))" @begun="(t) => { begun = true; text = t }" />
    <v-card class="desk">
      <div class="gutter mono" aria-hidden="true">
        <div v-for="n in lines" :key="n" :class="worst[n]">{{ worst[n] ? signs[worst[n] as keyof typeof signs] : '' }} {{ n }}</div>
      </div>
      <textarea id="document" v-model="text" class="mono" :rows="lines" spellcheck="false" wrap="off" aria-label="The plan, YAML" @keydown.tab.exact.prevent="indent" />
      <div ref="notesBox" class="notes">
        <article v-for="(n, i) in notes" :key="n.id" class="margin" :class="n.severity" :style="{ top: tops[i] + 'px' }">
          <b>{{ signs[n.severity] }} {{ n.severity === 'fault' ? 'not a plan' : n.severity }}, line {{ n.line }}</b>
          {{ n.problem }}
          <p v-if="n.fix">→ {{ n.fix }}</p>
          <v-btn v-if="n.mend.length" size="x-small" variant="outlined" class="mt-1" :aria-label="`Apply the fix of line ${n.line}`" @click="mend(n)">Apply this fix</v-btn>
        </article>
      </div>
    </v-card>
    <CommitDialog v-if="committing" :draft="name" :version="draft?.version ?? 0" @close="committing = false" @committed="committed" />
  </div>
</template>

<style scoped>
.counts {
  font-size: 13px;
}
.desk {
  display: grid;
  grid-template-columns: 64px minmax(0, 1fr) 380px;
  max-height: calc(100vh - 150px);
  overflow: auto;
  padding: 8px 0;
}
.gutter,
textarea {
  font-size: 12.5px;
  line-height: 20px;
}
.gutter {
  text-align: right;
  padding-right: 10px;
  color: rgb(var(--v-theme-quiet));
  user-select: none;
}
.gutter .stop,
.gutter .fault {
  color: rgb(var(--v-theme-bad));
  font-weight: 700;
}
.gutter .warn {
  color: rgb(var(--v-theme-caution));
  font-weight: 700;
}
textarea {
  width: 100%;
  resize: none;
  overflow-y: hidden;
  overflow-x: auto;
  border: 0;
  outline-offset: -3px;
  color: inherit;
  background: transparent;
  white-space: pre;
}
.notes {
  position: relative;
  border-left: 1px solid rgba(128, 140, 160, 0.3);
}
.margin {
  position: absolute;
  left: 8px;
  right: 8px;
  padding: 4px 8px;
  font-size: 12px;
  line-height: 1.35;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(128, 140, 160, 0.4);
  border-left-width: 4px;
}
.margin b {
  display: block;
}
.margin p {
  margin: 2px 0 0;
}
.margin.stop,
.margin.fault {
  border-left-color: rgb(var(--v-theme-bad));
}
.margin.warn {
  border-left-color: rgb(var(--v-theme-lantern));
}
</style>
