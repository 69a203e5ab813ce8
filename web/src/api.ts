import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Board = Schemas['Board']
export type Cell = Schemas['ReachCell']
export type Try = Schemas['Try']
export type Finding = Schemas['CheckFinding']
export type Edit = Schemas['PlanEdit']
export type Checked = Schemas['Checked']
export type Review = Schemas['Review']
export type Draft = Schemas['Draft']
export type Revision = Schemas['Revision']
export type Trial = Schemas['Trial']
export type Session = Schemas['LiveSession']
export type PastSession = Schemas['PastSession']
export type Round = Schemas['Round']
export type Point = Schemas['Point']
export type Flow = Schemas['ForwardFlow']
export type Event = Schemas['GatewayEvent']
export type Journey = Schemas['JourneyAnswer']

export const api = createClient<paths>({ baseUrl: '' })

// One call takes half a minute at most: what is still being worked out then is asked for again.
const asked = new WeakMap<Request, Request>()
api.use({
  onRequest({ request }) {
    asked.set(request, request.clone())
  },
  async onResponse({ request, response }) {
    let answer = response
    const again = asked.get(request)
    while (again && answer.status === 503 && codeOf(await body(answer)) === 'computing-goes-on') answer = await fetch(again.clone())
    return answer
  },
})

const body = (answer: Response): Promise<unknown> =>
  answer
    .clone()
    .json()
    .catch(() => undefined)

interface Problem {
  code?: string
  detail?: string
  errors?: { message?: string }[] | null
}

/** Why something was refused, by the codes that the service has for it; empty: for another reason. */
export const codeOf = (error: unknown): string => (error as Problem | undefined)?.code ?? ''

/** The words of a refusal, for people. */
export function words(error: unknown): string {
  const p = error as Problem | undefined
  if (!p) return 'the service does not answer'
  const more = (p.errors ?? []).map((e) => e.message).filter(Boolean)
  return [p.detail ?? 'the service refused', ...more].join('; ')
}
