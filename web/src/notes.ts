import type { Checked, Edit, Schemas } from './api'

/** A note beside a line of the document. */
export interface MarginNote {
  severity: 'fault' | 'stop' | 'warn' | 'note'
  line: number
  id: string
  problem: string
  fix: string
  /** Edits that mend it, where that wants no decision. */
  mend: Edit[]
  /** What is to be done elsewhere than in the plan. */
  todo?: Schemas['CheckTodo']
}

export function marginNotes(c: Checked): MarginNote[] {
  const faults = c.faults.map((f, i) => ({
    severity: 'fault' as const,
    line: f.line,
    id: `fault-${i}`,
    problem: (f.path ? f.path + ': ' : '') + f.problem,
    fix: f.expected ? 'expected ' + f.expected : '',
    mend: [],
  }))
  const findings = c.findings.map((f) => ({
    severity: f.severity as MarginNote['severity'],
    line: f.line,
    id: `${f.code}@${f.path}`,
    problem: f.problem,
    fix: f.fix,
    mend: f.mend ?? [],
    todo: f.do,
  }))
  return [...faults, ...findings].sort((a, b) => a.line - b.line)
}

/** Tops of notes in pixels: each beside its line, or just below the note before it where two would overlap. */
export function place(notes: { line: number; height: number }[], lineHeight: number, gap: number): number[] {
  let free = 0
  return notes.map((n) => {
    const top = Math.max(free, (n.line - 1) * lineHeight)
    free = top + n.height + gap
    return top
  })
}
