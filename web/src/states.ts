import { mdiAlert, mdiAlertOctagon, mdiCheckCircle, mdiCircleOutline, mdiMinusBoxOutline } from '@mdi/js'
import type { Cell, Schemas, Try } from './api'

export interface Mark {
  icon: string
  color: string
  word: string
}

/** Every state of a cell is told by a shape and a word; the colour only helps. */
const marks: Record<string, Mark> = {
  reaches: { icon: mdiCheckCircle, color: 'good', word: 'reaches' },
  'kept out': { icon: mdiMinusBoxOutline, color: 'quiet', word: 'kept out' },
  'cannot reach': { icon: mdiAlert, color: 'bad', word: 'cannot reach' },
  'should not': { icon: mdiAlertOctagon, color: 'bad', word: 'should not' },
  unasked: { icon: mdiCircleOutline, color: 'caution', word: 'unasked' },
  'no reach': { icon: '', color: 'quiet', word: '–' },
}

export function mark(cell: Cell): Mark {
  return marks[cell.state] ?? { icon: mdiAlert, color: 'bad', word: cell.state }
}

export const legend: { state: string; about: string }[] = [
  { state: 'reaches', about: 'expected, and computed' },
  { state: 'kept out', about: 'must not, and does not' },
  { state: 'cannot reach', about: 'expected, and does not' },
  { state: 'should not', about: 'must not, and does' },
  { state: 'unasked', about: 'reached, no expectation speaks of it' },
]

export function markOf(state: string): Mark {
  return marks[state]
}

export function triedWord(t: Try | undefined): { sign: string; color: string; word: string } {
  switch (t?.state) {
    case 'as expected':
      return { sign: '✓', color: 'good', word: 'tried' }
    case 'differs':
      return { sign: '≠', color: 'bad', word: 'tried: differs' }
    default:
      return { sign: '', color: 'quiet', word: 'not tried' }
  }
}

/** Whether a cell wants somebody's attention. */
export function troubled(cell: Cell, t: Try | undefined): boolean {
  return cell.state === 'cannot reach' || cell.state === 'should not' || t?.state === 'differs'
}

/** A piece of reach in words. */
export function reachWords(l: Schemas['ReachLine']): string {
  return l.from ? `${l.services} from ${l.from} towards their devices` : `${l.services} at ${l.to}`
}
