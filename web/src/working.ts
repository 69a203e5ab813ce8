import { ref } from 'vue'
import { api, type Schemas } from './api'

export type Task = Schemas['Task']

/** What the service works out for whoever looks, where it takes longer than a moment. */
export const working = ref<Task[]>([])

const moment = 1000 // ms until somebody wonders
const again = 500

let calls = 0
let timer = 0

async function look() {
  timer = 0
  const { data } = await api.GET('/api/v1/computing')
  working.value = (data ?? []).filter((t) => t.yours)
  if (calls || working.value.length) timer ||= window.setTimeout(look, again)
}

const counted = (url: string) => !url.includes('/api/v1/computing')

api.use({
  onRequest({ request }) {
    if (counted(request.url)) {
      calls++
      timer ||= window.setTimeout(look, moment)
    }
    return undefined
  },
  onResponse({ request }) {
    if (counted(request.url)) calls--
    return undefined
  },
  onError({ request }) {
    if (counted(request.url)) calls--
    return undefined
  },
})

/** Ends what is being worked out; whoever waits for it is told. */
export const stop = (task: Task) => api.DELETE('/api/v1/computing/{id}', { params: { path: { id: task.id } } })
