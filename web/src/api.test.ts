import { afterEach, expect, it, vi } from 'vitest'

afterEach(() => vi.unstubAllGlobals())

// What is still being worked out when a call took as long as a call may is asked for again, with the same body.
it('asks again', async () => {
  const bodies: string[] = []
  const answer = (status: number, body: unknown) =>
    new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json' } })
  vi.stubGlobal('fetch', async (request: Request) => {
    bodies.push(await request.text())
    if (bodies.length < 3) return answer(503, { code: 'computing-goes-on' })
    return bodies.length === 3 ? answer(200, []) : answer(503, { code: 'needs-approval' })
  })
  const { api, codeOf } = await import('./api') // which keeps what fetches
  const ask = () => api.POST('/api/v1/uses', { body: { text: 'x', object: 'rules/a' }, baseUrl: 'http://gate.tern.example' })
  expect((await ask()).data).toEqual([])
  expect(bodies).toEqual(Array(3).fill('{"text":"x","object":"rules/a"}'))
  expect(codeOf((await ask()).error)).toBe('needs-approval')
})
