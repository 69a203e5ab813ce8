import type { Finding, Schemas } from './api'

export interface Step {
  id: string
  title: string
  about: string
  kinds: string[]
  /** Settings that belong to the step though their object belongs to another one. */
  owns?: RegExp
}

/** The steps in the order in which the work is done. */
export const steps: Step[] = [
  {
    id: 'site',
    title: 'Site',
    about: 'Where the gateway stands, and what is behind it.',
    kinds: ['gateways', 'networks', 'routers', 'zones', 'hosts', 'host-groups', 'services'],
  },
  {
    id: 'trust',
    title: 'Trust',
    about: 'By what people’s devices know the gateway.',
    kinds: [],
    owns: /^tunnels\/[^/]+\/certificate|^gateways\/[^/]+\/outside\/update\/key/,
  },
  {
    id: 'people',
    title: 'People',
    about: 'Which groups there are, and when they may come.',
    kinds: ['groups', 'hours'],
    owns: /^passages\/[^/]+\/groups|^time-zone/,
  },
  { id: 'addresses', title: 'Addresses', about: 'What people’s devices are given.', kinds: ['pools'] },
  { id: 'tunnels', title: 'Tunnels', about: 'The ways in.', kinds: ['tunnels'] },
  {
    id: 'passages',
    title: 'Passages',
    about: 'Who comes in how: tunnel, addresses, names, routes, limits. The first that admits a person takes them.',
    kinds: ['passages'],
  },
  { id: 'nat', title: 'NAT', about: 'What is translated on its way, and what is not. The first that matches decides.', kinds: ['nat'] },
  { id: 'rules', title: 'Rules', about: 'What people may use. A refusal wins; nothing else is allowed.', kinds: ['rules'] },
  {
    id: 'expectations',
    title: 'Expectations',
    about: 'Who must reach what, and who must not: proved at every change, and tried.',
    kinds: ['expectations'],
  },
]

/** The step that a setting belongs to. */
export function stepOf(path: string): string {
  for (const s of steps) if (s.owns?.test(path)) return s.id
  const kind = path.split('/')[0]
  return steps.find((s) => s.kinds.includes(kind))?.id ?? 'site'
}

/** Where the console edits a setting. */
export function settingQuery(path: string): Record<string, string> {
  const [kind, name] = path.split('/')
  return name && steps.some((s) => s.kinds.includes(kind))
    ? { at: stepOf(`${kind}/${name}`), object: `${kind}/${name}` }
    : { at: stepOf(path) }
}

export interface Count {
  stop: number
  warn: number
  note: number
}

/** The findings of each step, counted. */
export function counts(findings: Finding[]): Record<string, Count> {
  const out: Record<string, Count> = {}
  for (const s of steps) out[s.id] = { stop: 0, warn: 0, note: 0 }
  for (const f of findings) out[stepOf(f.path)][f.severity]++
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
