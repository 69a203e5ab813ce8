import type { Schemas } from './api'

export type Answers = Schemas['BeginAnswers']

export interface NetworkRow {
  name: string
  prefix: string
  router: string
}

export interface GroupRow {
  name: string
  reach: string[]
  services: string[]
}

/** What is typed into the first page. Nothing of it is thrown away when something is not understood. */
export interface Form {
  site: string
  dial: string
  outside: string
  front: boolean
  frontAddress: string
  networks: NetworkRow[]
  groups: GroupRow[]
  dns: string
  search: string
  people: string
  full: boolean
  factor: boolean
  devices: string[]
}

export const emptyNetwork = (): NetworkRow => ({ name: '', prefix: '', router: '' })
export const emptyGroup = (): GroupRow => ({ name: '', reach: [], services: [] })

export const emptyForm = (): Form => ({
  site: '',
  dial: '',
  outside: '',
  front: false,
  frontAddress: '',
  networks: [emptyNetwork()],
  groups: [emptyGroup()],
  dns: '',
  search: '',
  people: '',
  full: false,
  factor: false,
  devices: [],
})

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

/** What is wrong, and with which field: its id. */
export interface Wrong {
  field: string
  problem: string
}

/** Reads the answers. What cannot be read is told where it stands, with what to write. Rows that are empty are left out. */
export function readForm(f: Form): { answers?: Answers; wrong?: Wrong } {
  const wrong = (field: string, problem: string) => ({ wrong: { field, problem } })
  if (!f.site.trim()) return wrong('site', 'Say what the site is called.')
  if (!f.dial.trim()) return wrong('dial', 'Say what people dial: a public name such as gate.tern.example, or an address.')
  const literal = /^[0-9.]+$|:/.test(f.dial)
  const outside = words(f.outside)
  if (!outside.length && (f.front || !literal))
    return wrong(
      'outside',
      f.front ? "Write the gateway's own address towards the router in front." : 'Say which public address the gateway has.',
    )
  if (f.front && !f.frontAddress.trim()) return wrong('front-address', 'Write the public address of the router in front.')
  const networks = []
  for (const [i, n] of f.networks.entries()) {
    if (!n.name.trim() && !n.prefix.trim()) continue
    if (!n.name.trim()) return wrong(`network-${i}-name`, `Give ${n.prefix} a name, such as office.`)
    if (!/\/\d+$/.test(n.prefix.trim())) return wrong(`network-${i}-prefix`, `Write which addresses ${n.name} has, such as 10.20.0.0/24.`)
    networks.push({
      name: n.name.trim(),
      prefix: n.prefix.trim(),
      ...(n.router.trim() ? { gateway: n.router.trim() } : {}),
    })
  }
  if (!networks.length) return wrong('network-0-name', 'Name one inside network: the one that the gateway is on.')
  const groups = []
  for (const [i, g] of f.groups.entries()) {
    if (!g.name.trim() && !g.reach.length && !g.services.length) continue
    if (!g.name.trim()) return wrong(`group-${i}-name`, 'Name the group, such as staff.')
    if (!g.reach.length) return wrong(`group-${i}-reach`, `Say what ${g.name} may reach: a network, a prefix or an address.`)
    if (!g.services.length) return wrong(`group-${i}-services`, `Say by which services, such as ping, tcp/443; any for all.`)
    groups.push({ name: g.name.trim(), reach: g.reach, services: g.services })
  }
  if (!groups.length) return wrong('group-0-name', 'Name one group of people, and what they may reach.')
  if (f.people.trim() && !/^[1-9]\d*$/.test(f.people.trim())) return wrong('people', 'Write a number of people, such as 40.')
  return {
    answers: {
      site: f.site.trim(),
      dial: f.dial.trim(),
      outside: outside.length ? outside : [f.dial.trim()],
      ...(f.front ? { 'in-front': f.frontAddress.trim() } : {}),
      networks,
      groups,
      dns: words(f.dns),
      search: f.search.trim() || undefined,
      people: f.people.trim() ? Number(f.people) : undefined,
      full: f.full,
      'second-factor': f.factor,
      devices: f.devices,
    } as Answers,
  }
}
