import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'

const task = {
  id: 7,
  what: 'draft large',
  stage: 'findings',
  size: '',
  done: 3,
  of: 21,
  since: '',
  left: 4,
  waiting: ['admin'],
  yours: true,
  words: 'findings of draft large: 3 of 21, about 4 s left',
}

// What takes longer than a moment is told while it is waited for, what is somebody else's is not, and it can be stopped.
describe('what is worked out', () => {
  let release: () => void
  let tasks: unknown[]
  let asked: string[]
  beforeEach(() => {
    vi.useFakeTimers()
    vi.resetModules()
    tasks = [task, { ...task, id: 8, yours: false }]
    asked = []
    const json = (body: unknown) => new Response(JSON.stringify(body), { headers: { 'Content-Type': 'application/json' } })
    vi.stubGlobal('location', new URL('http://gate.tern.example/'))
    vi.stubGlobal('fetch', async (request: Request) => {
      asked.push(request.method + ' ' + new URL(request.url).pathname)
      if (request.url.endsWith('/computing')) return json(tasks)
      if (request.method === 'DELETE') return new Response(null, { status: 204 })
      await new Promise<void>((r) => (release = r))
      return json([])
    })
  })
  afterEach(() => {
    vi.useRealTimers()
    vi.unstubAllGlobals()
  })

  it('is told, and stopped', async () => {
    const { working, stop } = await import('./working')
    const { api } = await import('./api')
    const call = api.GET('/api/v1/surplus', { params: { query: {} }, baseUrl: 'http://gate.tern.example' })
    await vi.advanceTimersByTimeAsync(900)
    expect(working.value).toEqual([])
    await vi.advanceTimersByTimeAsync(200)
    expect(working.value.map((t) => t.id)).toEqual([7])
    await stop(working.value[0])
    expect(asked).toContain('DELETE /api/v1/computing/7')
    release()
    await call
    tasks = []
    await vi.advanceTimersByTimeAsync(600)
    expect(working.value).toEqual([])
    const polls = asked.length
    await vi.advanceTimersByTimeAsync(5000)
    expect(asked.length).toBe(polls)
  })
})
