import { beforeEach, describe, expect, it } from 'vitest'
import type { Finding } from './api'
import { counts, pruned, settingQuery, stepOf, steps, summary, type Step } from './steps'

describe('steps', () => {
  beforeEach(() => {
    const step = (id: string, kinds: string[], owns: string[] = []): Step => ({ id, title: id, about: '', kinds, owns, whole: [] })
    steps.value = [
      step('site', ['gateways', 'hosts']),
      step('trust', [], ['tunnels/*/certificate', 'gateways/*/outside/update/key']),
      step('tunnels', ['tunnels']),
      step('rules', ['rules']),
    ]
  })

  it('are where a setting belongs, as the service says', () => {
    for (const [path, step] of Object.entries({
      'gateways/jetty/dial': 'site',
      'gateways/jetty/outside/update/key': 'trust',
      'gateways/jetty/outside/update': 'site',
      'tunnels/main/certificate': 'trust',
      'tunnels/main/algorithms': 'tunnels',
      'rules/archive/to/0': 'rules',
      elsewhere: 'site',
    }))
      expect([path, stepOf(path)]).toEqual([path, step])
  })

  it('lead from a setting to where it is edited', () => {
    expect(settingQuery('rules/archive/to/0')).toEqual({ at: 'rules', object: 'rules/archive' })
    expect(settingQuery('rules')).toEqual({ at: 'rules' })
    expect(settingQuery('tunnels/main/certificate')).toEqual({ at: 'tunnels', object: 'tunnels/main' })
  })

  it('count their findings by severity', () => {
    const f = (step: string, severity: string) => ({ step, severity }) as Finding
    expect(counts([f('rules', 'stop'), f('rules', 'warn'), f('trust', 'stop'), f('rules', 'stop')])).toEqual({
      rules: { stop: 2, warn: 1, note: 0 },
      trust: { stop: 1, warn: 0, note: 0 },
    })
  })
})

describe('objects', () => {
  it('are said in one line', () => {
    expect(
      summary({ name: 'x', action: 'permit', to: ['a', 'b'], log: true, off: false, hours: undefined, dns: { servers: ['10.0.0.1'] } }),
    ).toBe('action permit · to a, b · log · dns servers 10.0.0.1')
    expect(summary([{ to: '10.0.0.0/8', via: '10.0.0.1' }])).toBe('to 10.0.0.0/8 via 10.0.0.1')
  })

  it('are written without what is empty, but with lists that are empty on purpose', () => {
    expect(pruned({ name: 'x', a: '', b: undefined, c: false, d: 0, e: {}, f: { g: undefined }, routes: { split: [] }, n: 5 })).toEqual({
      name: 'x',
      routes: { split: [] },
      n: 5,
    })
  })
})
