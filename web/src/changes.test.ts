import { flushPromises, mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, expect, test, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { createVuetify } from 'vuetify'
import * as components from 'vuetify/components'
import type { Component } from 'vue'
import { asked } from './ask'
import CommitDialog from './components/CommitDialog.vue'
import ConflictDialog from './components/ConflictDialog.vue'
import FindingCard from './components/FindingCard.vue'
import ObjectForm from './components/ObjectForm.vue'
import StepPanel from './components/StepPanel.vue'
import PeoplePage from './pages/PeoplePage.vue'
import SessionsPage from './pages/SessionsPage.vue'
import TrialsPage from './pages/TrialsPage.vue'
import { usePlan } from './plan'
import { steps } from './steps'

// The API's client keeps the fetch that it finds when it is made.
const service = vi.hoisted(() => {
  const s = { answer: (r: Request): Promise<Response> => Promise.reject(new Error('no test answers ' + r.url)) }
  globalThis.fetch = ((r: Request) => s.answer(r)) as typeof fetch
  return s
})

// The pages that change things, each against a service that answers what a test says and keeps what it was sent.
interface Call {
  call: string
  body?: Record<string, unknown>
}
let calls: Call[] = []
let answers: Record<string, unknown> = {}
const refused = (status: number, detail: string, code = '') => ({ refused: status, detail, code })

/** What the service pushes, told by the test. */
class Stream {
  heard: Record<string, (e: { data: string }) => void> = {}
  constructor() {
    streams.push(this)
  }
  addEventListener(kind: string, f: (e: { data: string }) => void) {
    this.heard[kind] = f
  }
  tell(kind: string, value: unknown) {
    this.heard[kind]({ data: JSON.stringify(value) })
  }
  close() {}
}
const streams: Stream[] = []
const live = (id: string) => ({
  id,
  user: 'rory.researcher',
  groups: ['researchers'],
  passage: 'research',
  tunnel: 'main',
  addresses: ['10.99.0.2'],
  from: '203.0.113.45:4500',
  since: '2026-06-01T12:00:00Z',
  suite: 'AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519',
  traffic: [],
  'in-packets': 1,
  'out-packets': 1,
  'in-bytes': 1,
  'out-bytes': 1,
})

beforeEach(() => {
  calls = []
  answers = {}
  setActivePinia(createPinia())
  service.answer = async (r: Request) => {
    const call = `${r.method} ${new URL(r.url, 'http://service').pathname.replace('/api/v1', '')}`
    const text = await r.text()
    calls.push({ call, body: text ? JSON.parse(text) : undefined })
    const out = answers[call] as { refused?: number } | undefined
    return new Response(JSON.stringify(out ?? []), { status: out?.refused ?? 200, headers: { 'Content-Type': 'application/json' } })
  }
  vi.stubGlobal(
    'ResizeObserver',
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  )
  streams.length = 0
  vi.stubGlobal('EventSource', Stream)
  vi.stubGlobal('visualViewport', new EventTarget())
})

const sent = (call: string) => calls.filter((c) => c.call === call).map((c) => c.body)

async function page(c: Component, props: Record<string, unknown> = {}, at = '/') {
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/:rest(.*)', component: { template: '<p/>' } }] })
  await router.push(at)
  const w = mount(c, {
    props,
    attachTo: document.body,
    global: {
      plugins: [createVuetify({ components }), router],
      stubs: { VDialog: { template: '<div><slot /></div>' }, DocumentEditor: true, MergeSides: true, TrafficGraph: true },
    },
  })
  await flushPromises()
  const button = (words: string) => w.findAll('button, a').find((b) => b.text().toLowerCase().includes(words.toLowerCase()))
  const press = async (words: string) => {
    const b = button(words)
    if (!b) throw new Error(`there is no button ${words} among ${w.findAll('button').map((x) => x.text())}`)
    await b.trigger('click')
    for (let i = 0; i < 4; i++) await flushPromises()
  }
  return { w, press, router, button }
}

const finding = (severity: string, more = {}) => ({
  code: 'c',
  severity,
  path: 'rules/a',
  step: 'rules',
  line: 3,
  column: 1,
  problem: 'wide',
  fix: 'narrow it',
  ...more,
})
const review = (more = {}) => ({
  faults: [],
  findings: [],
  stops: 0,
  warnings: 0,
  notes: 0,
  changes: ['+ rules/a'],
  reach: [],
  ends: [],
  ...more,
})

test('a commit wants a message, and a reason for every warning; it sends the version that was seen', async () => {
  usePlan().draft = { name: 'console', version: 7 } as never
  answers['GET /drafts/console/review'] = review({ findings: [finding('warn')], warnings: 1 })
  answers['POST /drafts/console/commit'] = { revision: 4, ended: [], review: review() }
  const { w, press } = await page(CommitDialog, { draft: 'console' })
  expect(w.text()).toContain('wide')
  expect(w.find('#commit').attributes('disabled')).toBeDefined()
  await w.find('#message').setValue('for the season')
  expect(w.find('#commit').attributes('disabled')).toBeDefined()
  await w.find('.reason input').setValue('agreed with the wardens')
  await press('Commit')
  expect(sent('POST /drafts/console/commit')).toEqual([
    { message: 'for the season', version: 7, for: 0, accept: [{ finding: 'c@rules/a', reason: 'agreed with the wardens' }] },
  ])
  expect(w.emitted('committed')).toEqual([[4, 0]])
})

test('a commit that is refused says why, and offers to rebase where the draft is behind', async () => {
  answers['GET /drafts/console/review'] = review()
  answers['POST /drafts/console/commit'] = refused(409, 'revision 5 was committed after this draft was begun', 'draft-behind')
  const { w, press } = await page(CommitDialog, { draft: 'console' })
  await w.find('#message').setValue('late')
  await press('Commit')
  expect(w.find('.v-alert').text()).toContain('revision 5 was committed')
  await press('Rebase the draft')
  expect(w.emitted('rebase')).toHaveLength(1)
  expect(w.emitted('committed')).toBeUndefined()
})

test('a plan with a stop cannot be committed, and its finding is mended where it stands', async () => {
  const plan = usePlan()
  plan.draft = { name: 'console', version: 1 } as never
  answers['GET /drafts/console/review'] = review({
    findings: [finding('stop', { mend: [{ op: 'remove', path: 'rules/a' }] })],
    stops: 1,
  })
  answers['POST /drafts/console/change'] = {
    draft: { name: 'console', version: 2, text: 'x' },
    checked: review(),
    reading: { faults: [] },
  }
  const { w, press } = await page(CommitDialog, { draft: 'console' })
  await w.find('#message').setValue('now')
  expect(w.find('#commit').attributes('disabled')).toBeDefined()
  answers['GET /drafts/console/review'] = review()
  await press('Apply this fix')
  expect(sent('POST /drafts/console/change')[0]).toMatchObject({ version: 1, edits: [{ op: 'remove', path: 'rules/a' }] })
  expect(w.find('#commit').attributes('disabled')).toBeUndefined()
})

test('a first plan is summed up by who comes in and reaches what', async () => {
  answers['GET /drafts/console/review'] = review({
    first: [
      {
        group: 'wardens',
        by: 'main',
        addresses: 'staff (10.99.0.0/24)',
        names: '10.20.0.53',
        routes: 'everything',
        reaches: [{ to: 'station', services: 'ping' }],
      },
    ],
  })
  const { w } = await page(CommitDialog, { draft: 'console' })
  expect(w.find('#first').text()).toContain('ping at station')
  expect(w.text()).not.toContain('+ rules/a')
})

test('a finding does what is to be done elsewhere', async () => {
  const certificate = finding('stop', { do: { what: 'make-certificate', name: 'gate', for: ['gate.tern.example'] } })
  Object.assign(answers, { 'POST /check': review(), 'POST /read': { faults: [{}] } })
  const one = await page(FindingCard, { finding: certificate })
  await one.press('Make certificate gate for gate.tern.example')
  expect(sent('POST /certificates/gate')).toEqual([{ for: ['gate.tern.example'] }])
  expect(one.w.emitted('mended')).toHaveLength(1)
  const two = await page(FindingCard, { finding: finding('warn', { do: { what: 'add-person', name: 'wardens' } }) })
  await two.press('Add a person to wardens')
  expect(two.router.currentRoute.value.fullPath).toBe('/people?add=wardens')
  const three = await page(FindingCard, { finding: finding('stop', { do: { what: 'keep-secret', name: 'jetty-update' } }) })
  await three.press('Keep secret jetty-update')
  expect(three.router.currentRoute.value.fullPath).toBe('/plan?at=trust')
})

test('of each conflict one side is chosen before the draft is rebased', async () => {
  answers['POST /drafts/console/rebase'] = {
    draft: {},
    conflicts: [
      { line: 3, base: 'a', ours: 'b', theirs: 'c' },
      { line: 9, base: 'a', ours: 'b', theirs: '' },
    ],
  }
  const { w, press } = await page(ConflictDialog)
  expect(w.text()).toContain('committed: taken out')
  const settle = () => w.find('#settle').attributes('disabled')
  const choices = w.findAll('input[type=radio]')
  await choices[1].setValue()
  expect(settle()).toBeDefined()
  await choices[2].setValue()
  expect(settle()).toBeUndefined()
  await press('Rebase with these')
  expect(sent('POST /drafts/console/rebase')).toEqual([{ take: [] }, { take: ['theirs', 'ours'] }])
})

const form = (kind: string, one: string, more = {}) => ({
  kind,
  one,
  doc: '',
  fields: [
    { name: 'name', type: 'text', doc: '', required: true },
    { name: 'note', type: 'text', doc: 'What it is for.', usual: true },
  ],
  ...more,
})
function withGroups() {
  const plan = usePlan()
  plan.forms = [form('groups', 'group', { reach: true })] as never
  plan.reading = {
    plan: { groups: [{ name: 'wardens', note: 'keep it' }, { name: 'guests' }] },
    settled: [],
    taken: {},
    lines: {},
    picture: {},
    lists: [
      {
        kind: 'groups',
        columns: ['note'],
        rows: [
          { name: 'wardens', cells: ['keep it'] },
          { name: 'guests', cells: [''] },
        ],
      },
    ],
  } as never
  return plan
}

test('a new object is put into the draft when it is added, under a name that is free', async () => {
  withGroups()
  answers['POST /drafts/console/change'] = refused(422, 'groups/volunteers: it cannot be')
  const { w, press } = await page(ObjectForm, { kind: 'groups' })
  await press('Add to the draft')
  expect(w.text()).toContain('Give it a name first')
  await w.find('#field-name').setValue('wardens')
  await press('Add to the draft')
  expect(w.text()).toContain('There is a wardens already')
  await w.find('#field-name').setValue('volunteers')
  await press('Add to the draft')
  expect(sent('POST /drafts/console/change')[0]).toMatchObject({
    edits: [{ op: 'put', path: 'groups/volunteers', value: '{"name":"volunteers"}' }],
  })
  expect(w.text()).toContain('it cannot be')
  expect(w.emitted('added')).toBeUndefined()
})

test('an object is removed only after it was said what names it', async () => {
  withGroups()
  answers['POST /uses'] = ['rules/a/groups/0']
  answers['POST /drafts/console/change'] = { draft: { version: 2, text: '' }, checked: review(), reading: { faults: [] } }
  const { w, press } = await page(ObjectForm, { kind: 'groups', name: 'wardens' })
  await press('Remove')
  expect(asked.value?.words).toContain('rules/a/groups/0 would name what is no longer there')
  asked.value?.answer(undefined)
  await flushPromises()
  expect(sent('POST /drafts/console/change')).toEqual([])
  await press('Remove')
  asked.value?.answer('')
  await flushPromises()
  expect(sent('POST /drafts/console/change')[0]).toMatchObject({ edits: [{ op: 'remove', path: 'groups/wardens' }] })
  expect(w.emitted('close')).toHaveLength(1)
})

test('a step lists its objects by columns, filtered, and opens one', async () => {
  withGroups()
  steps.value = [{ id: 'people', title: 'People', about: '', kinds: ['groups'], owns: [], whole: [] }]
  const { w } = await page(StepPanel, { step: steps.value[0] })
  const rows = () => w.findAll('tr[aria-label]').map((r) => r.attributes('aria-label'))
  expect(rows()).toEqual(['groups/wardens', 'groups/guests'])
  await w.find('#search').setValue('keep')
  expect(rows()).toEqual(['groups/wardens'])
  await w.find('tr[aria-label]').trigger('click')
  expect(w.emitted('open')).toEqual([['groups/wardens']])
})

test('people are added, changed and removed; what is refused is said and kept', async () => {
  const everybody = { users: [{ name: 'rory.researcher', groups: ['researchers'] }], matching: 1, all: 1 }
  answers['GET /users'] = everybody
  answers['GET /users-words'] = { groups: ['researchers', 'wardens'], hours: [], tunnels: ['main'] }
  answers['GET /groups'] = [{ name: 'researchers', passage: 'research', members: [] }]
  answers['POST /users'] = refused(422, 'give at least 12 characters')
  const { w, press } = await page(PeoplePage, {}, '/people?add=wardens')
  expect(w.text()).toContain('by research')
  await w.find('#user').setValue('wanda.warden')
  await w.find('#make-password').setValue(false)
  await w.find('#user-password').setValue('short')
  await w.find('form').trigger('submit')
  await flushPromises()
  expect(sent('POST /users')[0]).toMatchObject({ name: 'wanda.warden', groups: ['wardens'], password: 'short', sessions: 0, tunnels: [] })
  expect(w.find('.v-alert').text()).toContain('give at least 12')
  expect((w.find('#user').element as HTMLInputElement).value).toBe('wanda.warden')

  await press('Switch off')
  expect(sent('PUT /users/rory.researcher')[0]).toMatchObject({ off: true, groups: ['researchers'] })
  await press('Remove')
  expect(asked.value?.words).toContain('Remove rory.researcher')
  asked.value?.answer('')
  await flushPromises()
  expect(sent('DELETE /users/rory.researcher')).toHaveLength(1)
})

test('everybody is tried from the places that are chosen, and by a schedule', async () => {
  const round = {
    id: 3,
    at: '2026-06-01T12:00:00Z',
    by: 'admin',
    revision: 1,
    vantages: ['home'],
    of: 4,
    done: 4,
    state: 'done',
    ok: true,
    words: 'all as expected',
    results: [],
  }
  Object.assign(answers, {
    'GET /vantages': [
      { name: 'home', about: '', link: '' },
      { name: 'hotel', about: '', link: '' },
    ],
    'GET /schedule': { every: 0, vantages: [] },
    'GET /rounds': [round],
    'GET /rounds/0': round,
    'GET /rounds/3': round,
    'POST /rounds': round,
  })
  const { w, press } = await page(TrialsPage)
  expect(w.text()).toContain('all as expected')
  await press('Try everybody')
  expect(sent('POST /rounds')).toEqual([{ vantages: ['home', 'hotel'] }])
  answers['POST /rounds'] = refused(409, 'a round is under way')
  await press('Try everybody')
  expect(w.find('.v-alert').text()).toContain('a round is under way')
})

test('a live session is ended after a question, and what was refused is said', async () => {
  answers['DELETE /sessions/one'] = refused(404, 'it has ended by itself')
  const { w, press } = await page(SessionsPage)
  expect(w.text()).not.toContain('End all of theirs')
  streams[0].tell('sessions', { sessions: [live('one'), live('two')], all: 2, match: 2, flagged: 0 })
  await flushPromises()
  expect(w.text()).toContain('rory.researcher')
  await press('End all of theirs')
  asked.value?.answer('')
  await flushPromises()
  expect(sent('DELETE /sessions')).toHaveLength(1)
  await press('End')
  expect(asked.value?.words).toContain('Everything that it carries breaks off')
  asked.value?.answer('')
  for (let i = 0; i < 4; i++) await flushPromises()
  expect(w.find('.v-alert').text()).toContain('it has ended by itself')
})
