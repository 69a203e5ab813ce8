import { describe, expect, it } from 'vitest'
import type { Finding } from './api'
import { holds } from './net'
import { counts, pruned, settingQuery, stepOf, steps, summary } from './steps'

describe('steps', () => {
  it('knows the step of every setting', () => {
    const expected: Record<string, string> = {
      'gateways/jetty/dial': 'site',
      'gateways/jetty/outside/update/key': 'trust',
      'gateways/jetty/defaults/dns/servers/0': 'site',
      'tunnels/main/certificate': 'trust',
      'tunnels/main/suites/0': 'tunnels',
      'passages/research/groups/1': 'people',
      'passages/research/routes': 'passages',
      passages: 'passages',
      'time-zone': 'people',
      'host-groups/instruments': 'site',
      'hours/watch/to': 'people',
      'nat/way-out': 'nat',
      'rules/archive/to/0': 'rules',
      'expectations/x': 'expectations',
      '': 'site',
    }
    for (const [path, step] of Object.entries(expected)) expect([path, stepOf(path)]).toEqual([path, step])
  })

  it('has every kind of object in one step', () => {
    const kinds = steps.flatMap((s) => s.kinds)
    expect(new Set(kinds).size).toBe(kinds.length)
    expect(kinds.length).toBe(15)
  })

  it('counts findings by step and severity', () => {
    const f = (path: string, severity: string) => ({ path, severity }) as Finding
    const n = counts([f('rules/a', 'stop'), f('rules/b', 'warn'), f('tunnels/main/certificate', 'stop'), f('rules/a', 'stop')])
    expect(n.rules).toEqual({ stop: 2, warn: 1, note: 0 })
    expect(n.trust.stop).toBe(1)
    expect(n.nat.stop).toBe(0)
  })

  it('leads from a setting to where it is edited', () => {
    expect(settingQuery('rules/archive/to/0')).toEqual({ at: 'rules', object: 'rules/archive' })
    expect(settingQuery('rules')).toEqual({ at: 'rules' })
    expect(settingQuery('gateways/jetty/defaults/routes')).toEqual({ at: 'site', object: 'gateways/jetty' })
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

describe('prefixes', () => {
  it('hold their addresses', () => {
    for (const [prefix, address, want] of [
      ['10.20.0.0/24', '10.20.0.255', true],
      ['10.20.0.0/24', '10.20.1.0', false],
      ['0.0.0.0/0', '203.0.113.9', true],
      ['fd00:20::/64', 'fd00:20::53', true],
      ['fd00:20::/64', 'fd00:20:0:1::53', false],
      ['fd00:20:30::/48', 'fd00:20:30:ffff::1', true],
      ['10.20.0.0/24', 'fd00::1', false],
      ['10.20.0.0/24', '', false],
      ['10.20.0.0/24', 'records', false],
      ['::/0', '2001:db8:1:2:3:4:5:6', true],
      ['::/0', '1:2:3', false],
    ] as const)
      expect([prefix, address, holds(prefix, address)]).toEqual([prefix, address, want])
  })
})
