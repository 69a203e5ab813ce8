import { describe, expect, it } from 'vitest'
import type { Cell, Checked } from './api'
import { marginNotes, place } from './notes'
import { legend, mark, markOf, triedWord, troubled } from './states'

const cell = (state: string): Cell => ({ state, expected: '', computed: '', service: 'tcp/80', dst: '10.20.0.20' }) as Cell

describe('states', () => {
  it('tells every state by a word and a shape of its own', () => {
    const marks = legend.map((l) => mark(cell(l.state)))
    expect(new Set(marks.map((m) => m.icon)).size).toBe(legend.length)
    expect(new Set(marks.map((m) => m.word)).size).toBe(legend.length)
    expect(markOf('reaches').word).toBe('reaches')
  })
  it('calls for attention where expectation and reach, or reach and trial, differ', () => {
    expect(troubled(cell('should not'), undefined)).toBe(true)
    expect(troubled(cell('reaches'), { state: 'differs', words: '' })).toBe(true)
    expect(troubled(cell('reaches'), { state: 'as expected', words: '' })).toBe(false)
    expect(triedWord(undefined).word).toBe('not tried')
  })
})

describe('margin notes', () => {
  it('stand beside their lines, in order, without overlapping', () => {
    const checked: Checked = {
      faults: [{ line: 9, column: 1, path: 'pools', problem: 'x', expected: 'y' }],
      findings: [{ code: 'c', severity: 'stop', path: 'p', line: 2, column: 1, problem: 'q', step: 'rules', fix: 'z' }],
      stops: 2,
      warnings: 0,
      notes: 0,
    }
    expect(marginNotes(checked).map((n) => [n.line, n.severity])).toEqual([
      [2, 'stop'],
      [9, 'fault'],
    ])
    const tops = place(
      [
        { line: 1, height: 50 },
        { line: 2, height: 50 },
        { line: 30, height: 20 },
      ],
      20,
      4,
    )
    expect(tops).toEqual([0, 54, 580])
  })
})
