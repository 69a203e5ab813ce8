import { ref } from 'vue'
import { api, type Finding, type Schemas } from './api'

export type Step = Schemas['OutlineStep']

/** The steps in the order in which the work is done, as the service says; empty until they are loaded. */
export const steps = ref<Step[]>([])

export async function loadSteps() {
  if (steps.value.length) return
  const { data } = await api.GET('/api/v1/steps')
  steps.value = data ?? []
}

/** Whether a setting is what a pattern names, or stands below it; * is any one word. */
function under(setting: string, pattern: string): boolean {
  const words = setting.split('/')
  return pattern.split('/').every((p, i) => (p === '*' ? words[i] !== undefined : words[i] === p))
}

/** The step that a setting belongs to. */
export function stepOf(path: string): string {
  for (const s of steps.value) if (s.owns.some((own) => under(path, own))) return s.id
  const kind = path.split('/')[0]
  return steps.value.find((s) => s.kinds.includes(kind))?.id ?? steps.value[0]?.id ?? ''
}

/** Where the console edits a setting. */
export function settingQuery(path: string): Record<string, string> {
  const [kind, name] = path.split('/')
  return name && steps.value.some((s) => s.kinds.includes(kind))
    ? { at: stepOf(`${kind}/${name}`), object: `${kind}/${name}` }
    : { at: stepOf(path) }
}

export interface Count {
  stop: number
  warn: number
  note: number
}

/** The findings of each step that has any, counted. */
export function counts(findings: Finding[]): Record<string, Count> {
  const out: Record<string, Count> = {}
  for (const f of findings) (out[f.step] ??= { stop: 0, warn: 0, note: 0 })[f.severity]++
  return out
}

export type PlanObject = { name: string; [field: string]: unknown }
export type Field = Schemas['PlanField']

/** The settings of an object in one line, as people read them. */
export function summary(value: unknown, top = true): string {
  if (Array.isArray(value)) return value.map((v) => summary(v, false)).join(', ')
  if (value && typeof value === 'object') {
    const parts = Object.entries(value as Record<string, unknown>)
      .filter(([name, v]) => !(top && name === 'name') && v !== undefined && v !== false && v !== '' && summary(v, false) !== '')
      .map(([name, v]) => (v === true ? name : `${name} ${summary(v, false)}`))
    return parts.join(top ? ' · ' : ' ')
  }
  return value === undefined || value === null ? '' : String(value)
}

/** What is left of an object when everything empty is taken out: so it is written into the plan. */
export function pruned(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(pruned)
  if (value && typeof value === 'object') {
    const out: Record<string, unknown> = {}
    for (const [name, v] of Object.entries(value as Record<string, unknown>)) {
      const p = pruned(v)
      const empty =
        p === undefined ||
        p === null ||
        p === '' ||
        p === false ||
        p === 0 ||
        (typeof p === 'object' && !Array.isArray(p) && !Object.keys(p as object).length)
      if (!empty) out[name] = p
    }
    return out
  }
  return value
}
