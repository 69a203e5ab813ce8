import { describe, expect, it } from 'vitest'
import { readForm, type Form } from './begin'

const form: Form = {
  site: 'Tern',
  dial: 'gate.tern.example',
  outside: '192.0.2.10',
  networks: 'station=10.20.0.0/24\narchive=10.20.30.0/24@10.20.0.2',
  groups: 'staff=station+archive:tcp/80+ping',
  dns: '10.20.0.53',
  full: false,
  devices: [],
}

describe('the six answers', () => {
  it('are read as the API wants them', () => {
    expect(readForm(form).answers).toEqual({
      site: 'Tern',
      dial: 'gate.tern.example',
      outside: ['192.0.2.10'],
      networks: [
        { name: 'station', prefix: '10.20.0.0/24' },
        { name: 'archive', prefix: '10.20.30.0/24', gateway: '10.20.0.2' },
      ],
      groups: [{ name: 'staff', reach: ['station', 'archive'], services: ['tcp/80', 'ping'] }],
      dns: ['10.20.0.53'],
      full: false,
      devices: [],
    })
    expect(readForm({ ...form, dial: '192.0.2.10', outside: '' }).answers?.outside).toEqual(['192.0.2.10'])
  })
  it('say what was expected where they cannot be read', () => {
    expect(readForm({ ...form, networks: 'station' }).problem).toContain('office=10.20.0.0/24')
    expect(readForm({ ...form, groups: 'staff=station' }).problem).toContain('staff=office:tcp/443+ping')
    expect(readForm({ ...form, outside: '' }).problem).toContain('public address')
  })
})
