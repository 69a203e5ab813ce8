import { onMounted, onUnmounted, ref } from 'vue'
import type { Event, Session } from './api'

/** Sessions as the service sends them every two seconds, and journal lines as they are written. It joins again by itself. */
export function useLive() {
  const sessions = ref<Session[]>([])
  const lines = ref<Event[]>([])
  const loaded = ref(false)
  const broken = ref(false)
  let source: EventSource | undefined

  onMounted(() => {
    source = new EventSource('/api/v1/watch')
    source.addEventListener('sessions', (e) => {
      sessions.value = (JSON.parse(e.data) as { sessions: Session[] }).sessions
      loaded.value = true
      broken.value = false
    })
    source.addEventListener('journal', (e) => {
      lines.value = [JSON.parse(e.data) as Event, ...lines.value].slice(0, 200)
    })
    source.onerror = () => (broken.value = true)
  })
  onUnmounted(() => source?.close())
  return { sessions, lines, loaded, broken }
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
