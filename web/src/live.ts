import { onMounted, onUnmounted, ref, watch, type Ref } from 'vue'
import type { Event, Session } from './api'

/** How many sessions there are, how many match what is looked for, and how many of all somebody should look at. */
export type Counted = { all: number; match: number; flagged: number }

/**
 * Sessions as the service sends them every two seconds, and journal lines as they are written. It joins again by itself. Of many sessions
 * some are sent: the service looks for the filter.
 */
export function useLive(filter: Ref<string>) {
  const sessions = ref<Session[]>([])
  const lines = ref<Event[]>([])
  const counted = ref<Counted>({ all: 0, match: 0, flagged: 0 })
  const loaded = ref(false)
  const broken = ref(false)
  let source: EventSource | undefined
  let typed = 0

  function join() {
    source?.close()
    source = new EventSource('/api/v1/watch' + (filter.value ? '?filter=' + encodeURIComponent(filter.value) : ''))
    source.addEventListener('sessions', (e) => {
      const told = JSON.parse(e.data) as { sessions: Session[] } & Counted
      sessions.value = told.sessions
      counted.value = told
      loaded.value = true
      broken.value = false
    })
    source.addEventListener('journal', (e) => {
      lines.value = [JSON.parse(e.data) as Event, ...lines.value].slice(0, 200)
    })
    source.onerror = () => (broken.value = true)
  }
  onMounted(join)
  watch(filter, () => {
    window.clearTimeout(typed)
    typed = window.setTimeout(join, 300)
  })
  onUnmounted(() => {
    window.clearTimeout(typed)
    source?.close()
  })
  return { sessions, counted, lines, loaded, broken }
}

/** Octets in words. */
export function size(n: number): string {
  return n < 1024 ? `${n} B` : n < 1 << 20 ? `${(n / 1024).toFixed(1)} KiB` : `${(n / (1 << 20)).toFixed(1)} MiB`
}

/** A line through values in a box, the newest at the right; empty without values. */
export function line(values: number[], width: number, height: number, most: number, slots: number): string {
  const top = Math.max(1, ...values)
  return values
    .slice(-slots)
    .map(
      (v, i, all) =>
        `${((slots - all.length + i) / (slots - 1)) * width},${height - (Math.min(v, most || top) / (most || top)) * (height - 2) - 1}`,
    )
    .join(' ')
}
