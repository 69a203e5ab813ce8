import type { Schemas } from './api'

export type Answers = Schemas['BeginAnswers']

export interface Form {
  site: string
  dial: string
  outside: string
  networks: string
  groups: string
  dns: string
  full: boolean
  devices: string[]
}

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

/** Reads the six answers; what cannot be read is told with what was expected. */
export function readForm(f: Form): { answers?: Answers; problem?: string } {
  const networks = []
  for (const word of words(f.networks)) {
    const m = /^([^=]+)=([^@]+)(?:@(.+))?$/.exec(word)
    if (!m)
      return { problem: `“${word}” is no network: expected office=10.20.0.0/24, or office=10.20.0.0/24@ROUTER if it lies behind a router` }
    networks.push({ name: m[1], prefix: m[2], ...(m[3] ? { gateway: m[3] } : {}) })
  }
  const groups = []
  for (const word of words(f.groups)) {
    const m = /^([^=]+)=([^:]+):(.+)$/.exec(word)
    if (!m) return { problem: `“${word}” does not say who reaches what: expected staff=office:tcp/443+ping` }
    groups.push({ name: m[1], reach: m[2].split('+'), services: m[3].split('+') })
  }
  const literal = /^[0-9.]+$|:/.test(f.dial)
  const outside = words(f.outside)
  if (!outside.length && !literal) return { problem: 'Say which public address the gateway has.' }
  return {
    answers: {
      site: f.site,
      dial: f.dial.trim(),
      outside: outside.length ? outside : [f.dial.trim()],
      networks,
      groups,
      dns: words(f.dns),
      full: f.full,
      devices: f.devices,
    } as Answers,
  }
}
