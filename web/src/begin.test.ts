import { describe, expect, it } from 'vitest'
import { emptyForm, emptyGroup, emptyNetwork, readForm, type Form } from './begin'

const form: Form = {
  ...emptyForm(),
  site: 'Tern',
  dial: 'gate.tern.example',
  outside: '192.0.2.10',
  networks: [
    { name: 'station', prefix: '10.20.0.0/24', router: '' },
    { name: 'archive', prefix: '10.20.30.0/24', router: '10.20.0.2' },
    emptyNetwork(),
  ],
  groups: [{ name: 'staff', reach: ['station', 'archive'], services: ['tcp/80', 'ping'] }, emptyGroup()],
  dns: '10.20.0.53',
  search: 'tern.example',
  people: '40',
}

describe('the first answers', () => {
  it('are read as the API wants them, without rows that are empty', () => {
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
      search: 'tern.example',
      people: 40,
      full: false,
      'second-factor': false,
      devices: [],
    })
    expect(readForm({ ...form, dial: '192.0.2.10', outside: '' }).answers?.outside).toEqual(['192.0.2.10'])
    expect(readForm({ ...form, outside: '192.168.9.10', front: true, frontAddress: '192.0.2.1' }).answers?.['in-front']).toBe('192.0.2.1')
  })

  it.each([
    ['site', { site: ' ' }],
    ['dial', { dial: '' }],
    ['outside', { outside: '' }],
    ['outside', { dial: '192.0.2.1', outside: '', front: true, frontAddress: '192.0.2.1' }],
    ['front-address', { front: true }],
    ['network-0-name', { networks: [emptyNetwork()] }],
    ['network-0-prefix', { networks: [{ name: 'station', prefix: '10.20.0.0', router: '' }] }],
    ['group-0-name', { groups: [] }],
    ['group-0-reach', { groups: [{ name: 'staff', reach: [], services: ['ping'] }] }],
    ['group-0-services', { groups: [{ name: 'staff', reach: ['station'], services: [] }] }],
    ['people', { people: 'many' }],
  ])('say at %s what to write', (field, change) => {
    const { wrong, answers } = readForm({ ...form, ...change })
    expect(answers).toBeUndefined()
    expect(wrong?.field).toBe(field)
    expect(wrong?.problem.length).toBeGreaterThan(15)
  })
})
