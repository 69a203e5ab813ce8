import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, codeOf, words, type Checked, type Draft, type Edit, type Revision, type Schemas, type Trial } from './api'
import { counts } from './steps'

export const draftName = 'console'
export type Reading = Schemas['Reading']
export type Form = Schemas['PlanForm']

const reasonsKept = 'reasons' // in the browser's storage of the session
const pause = 400 // milliseconds without a keystroke before a change is saved and checked

/** The draft that the console edits: its text is the record, everything else is read from it. */
export const usePlan = defineStore('plan', () => {
  const draft = ref<Draft>()
  const running = ref<Revision>()
  const revisions = ref<Revision[]>([])
  const trial = ref<Trial>()
  const text = ref('')
  const saved = ref('')
  const checked = ref<Checked>()
  const reading = ref<Reading>()
  const forms = ref<Form[]>([])
  const problem = ref('')
  const stale = ref(false)
  const loaded = ref(false)
  const undone = ref<string[]>([])
  /** Why a first plan was proposed as it is; kept while the browser is open, until something is committed. */
  const reasons = ref<Schemas['BeginReason'][]>(JSON.parse(sessionStorage.getItem(reasonsKept) ?? '[]'))
  const before = ref<string[]>([])
  let waiting = 0
  let returning = 0
  let typedAt = 0

  const changed = computed(() => (running.value?.text ?? '') !== text.value)
  const found = computed(() => counts(checked.value?.findings ?? []))

  async function load() {
    const [{ data: newest }, { data: drafts }, { data: all }, { data: onTrial }, { data: fs }] = await Promise.all([
      api.GET('/api/v1/revisions/{number}', { params: { path: { number: 0 } } }),
      api.GET('/api/v1/drafts'),
      api.GET('/api/v1/revisions'),
      api.GET('/api/v1/trial'),
      forms.value.length ? { data: forms.value } : api.GET('/api/v1/forms'),
    ])
    trial.value = onTrial?.revision ? onTrial : undefined
    window.clearTimeout(returning)
    if (trial.value?.until) returning = window.setTimeout(load, new Date(trial.value.until).getTime() - Date.now() + 1000)
    running.value = newest
    revisions.value = all ?? []
    forms.value = fs ?? []
    draft.value = drafts?.find((d) => d.name === draftName)
    text.value = saved.value = draft.value?.text ?? newest?.text ?? ''
    loaded.value = true
    await look()
  }

  /** Reads and checks the text as it is now. */
  async function look() {
    const sent = text.value
    const [c, r] = await Promise.all([
      api.POST('/api/v1/check', { body: { text: sent } }),
      api.POST('/api/v1/read', { body: { text: sent } }),
    ])
    if (sent !== text.value) return // a newer look is under way
    problem.value = c.error ? words(c.error) : ''
    checked.value = c.data
    if (r.data && !r.data.faults.length) reading.value = r.data
  }

  /** Writes what is typed, makes edits in it, and takes over what the service says of the outcome: one call. Gives the words of a refusal. */
  async function send(edits: Edit[] = []): Promise<string> {
    window.clearTimeout(waiting)
    const sent = text.value
    const { data, error } = await api.POST('/api/v1/drafts/{name}/change', {
      params: { path: { name: draftName } },
      body: { version: draft.value?.version ?? 0, text: sent, edits },
    })
    stale.value = ['draft-changed', 'changed-meanwhile'].includes(codeOf(error))
    if (error) return words(error)
    draft.value = data.draft
    saved.value = data.draft.text
    problem.value = ''
    if (text.value !== sent) return '' // typed on meanwhile: that is sent next
    text.value = data.draft.text
    checked.value = data.checked
    if (!data.reading.faults.length) reading.value = data.reading
    return ''
  }

  async function save() {
    window.clearTimeout(waiting)
    if (text.value === saved.value) return true
    const refusal = await send()
    if (refusal) problem.value = refusal
    return !refusal
  }

  function soon() {
    window.clearTimeout(waiting)
    waiting = window.setTimeout(async () => {
      await save()
    }, pause)
  }

  /** Takes what is typed into the document. Letters typed in one go are undone in one go. */
  function type(next: string) {
    if (next === text.value) return
    if (Date.now() - typedAt > 1500) before.value.push(text.value)
    typedAt = Date.now()
    undone.value = []
    text.value = next
    soon()
  }

  /** Puts another text in place of the draft's, as one step that can be undone. */
  async function replace(next: string) {
    if (next === text.value) return
    before.value.push(text.value)
    undone.value = []
    text.value = next
    await save()
  }

  /** Makes edits in the draft; gives the words of a refusal, or nothing. */
  async function edit(edits: Edit[]): Promise<string> {
    const was = text.value
    const refusal = await send(edits)
    if (!refusal && text.value !== was) {
      before.value.push(was)
      undone.value = []
    }
    return refusal
  }

  async function undo() {
    const last = before.value.pop()
    if (last === undefined) return
    undone.value.push(text.value)
    text.value = last
    await save()
  }

  async function redo() {
    const next = undone.value.pop()
    if (next === undefined) return
    before.value.push(text.value)
    text.value = next
    await save()
  }

  async function discard() {
    window.clearTimeout(waiting)
    await api.DELETE('/api/v1/drafts/{name}', { params: { path: { name: draftName } } })
    draft.value = undefined
    before.value = undone.value = []
    await load()
  }

  function explain(why: Schemas['BeginReason'][]) {
    reasons.value = why
    sessionStorage.setItem(reasonsKept, JSON.stringify(why))
  }

  /** The names of the objects of a kind. */
  function names(kind: string): string[] {
    const list = (reading.value?.plan as unknown as Record<string, { name: string }[] | undefined> | undefined)?.[kind]
    return (list ?? []).map((o) => o.name)
  }

  return {
    draft,
    running,
    revisions,
    trial,
    text,
    checked,
    reading,
    forms,
    problem,
    stale,
    loaded,
    before,
    undone,
    changed,
    found,
    load,
    look,
    save,
    type,
    replace,
    edit,
    undo,
    redo,
    discard,
    names,
    reasons,
    explain,
  }
})
