import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, codeOf, words, type Checked, type Draft, type Edit, type Revision, type Schemas, type Trial } from './api'
import { counts } from './steps'

export const draftName = 'console'
export type Reading = Schemas['Reading']
export type Form = Schemas['PlanForm']

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

  async function save() {
    window.clearTimeout(waiting)
    if (text.value === saved.value) return true
    const sent = text.value
    const { data, error } = await api.PUT('/api/v1/drafts/{name}', {
      params: { path: { name: draftName } },
      body: { text: sent, version: draft.value?.version ?? 0 },
    })
    stale.value = ['draft-changed', 'changed-meanwhile'].includes(codeOf(error))
    if (error) {
      problem.value = words(error)
      return false
    }
    draft.value = data
    saved.value = sent
    return true
  }

  function soon() {
    window.clearTimeout(waiting)
    waiting = window.setTimeout(async () => {
      if (await save()) await look()
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
    if (await save()) await look()
  }

  /** Makes edits in the draft; gives the words of a refusal, or nothing. */
  async function edit(edits: Edit[]): Promise<string> {
    const { data, error } = await api.POST('/api/v1/edit', { body: { text: text.value, edits } })
    if (error) return words(error)
    await replace(data.text)
    return ''
  }

  async function undo() {
    const last = before.value.pop()
    if (last === undefined) return
    undone.value.push(text.value)
    text.value = last
    if (await save()) await look()
  }

  async function redo() {
    const next = undone.value.pop()
    if (next === undefined) return
    before.value.push(text.value)
    text.value = next
    if (await save()) await look()
  }

  async function discard() {
    window.clearTimeout(waiting)
    await api.DELETE('/api/v1/drafts/{name}', { params: { path: { name: draftName } } })
    draft.value = undefined
    before.value = undone.value = []
    await load()
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
  }
})
