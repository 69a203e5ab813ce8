import { indentWithTab, standardKeymap } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, indentUnit, syntaxHighlighting } from '@codemirror/language'
import { search, searchKeymap } from '@codemirror/search'
import { Annotation, type ChangeSpec, type Extension } from '@codemirror/state'
import { drawSelection, EditorView, keymap } from '@codemirror/view'
import { tags } from '@lezer/highlight'

/** Height of a line in pixels: notes in the margin stand beside theirs. */
export const lineHeight = 20

/** Marks a change that did not come from the keyboard. */
export const fromOutside = Annotation.define<boolean>()

const colours = HighlightStyle.define([
  { tag: [tags.definition(tags.propertyName), tags.propertyName], class: 'yaml-key' },
  { tag: tags.comment, class: 'yaml-comment' },
  { tag: [tags.string, tags.special(tags.string)], class: 'yaml-string' },
])

const looks = EditorView.theme({
  '&': { fontSize: '12px', background: 'transparent', height: 'auto' },
  '&.cm-focused': { outline: '2px solid rgb(var(--v-theme-lantern))', outlineOffset: '-2px' },
  '.cm-scroller': { fontFamily: '"JetBrains Mono Variable", monospace', lineHeight: lineHeight + 'px', overflowX: 'auto' },
  '.cm-content': { padding: '0', caretColor: 'rgb(var(--v-theme-on-surface))' },
  '.cm-cursor': { borderLeftColor: 'rgb(var(--v-theme-on-surface))' },
  '.cm-gutters': { background: 'transparent', border: '0', color: 'rgb(var(--v-theme-quiet))' },
  '.cm-selectionBackground, &.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground': {
    background: 'rgba(255, 182, 39, 0.35)',
  },
  '.yaml-key': { color: 'rgb(var(--v-theme-info))' },
  '.yaml-comment': { color: 'rgb(var(--v-theme-quiet))', fontStyle: 'italic' },
  '.yaml-string': { color: 'rgb(var(--v-theme-good))' },
  '.cm-panels': { background: 'rgb(var(--v-theme-surface))', color: 'inherit' },
  '.cm-tooltip': { background: 'rgb(var(--v-theme-surface))', color: 'rgb(var(--v-theme-on-surface))', maxWidth: '520px' },
  '.cm-diagnosticAction': { background: 'rgb(var(--v-theme-primary))', color: 'rgb(var(--v-theme-surface))' },
})

/** What every editor of a plan's document has. */
export function documentEditor(label: string): Extension[] {
  return [
    yaml(),
    indentUnit.of('  '),
    syntaxHighlighting(colours),
    looks,
    EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
  ]
}

/** What one has that is typed into: keys, and a search of its own. Undoing is the page's: forms and document share one history. */
export function typing(undo: () => void, redo: () => void): Extension[] {
  const run = (what: () => void) => () => {
    what()
    return true
  }
  return [
    drawSelection(),
    search({ top: true }),
    keymap.of([
      { key: 'Mod-z', run: run(undo), preventDefault: true },
      { key: 'Mod-y', run: run(redo), preventDefault: true },
      { key: 'Mod-Shift-z', run: run(redo), preventDefault: true },
      indentWithTab,
      ...searchKeymap,
      ...standardKeymap,
    ]),
  ]
}

/** The one stretch in which two texts differ: so the cursor and what is seen stay where they are. */
export function between(old: string, next: string): ChangeSpec | undefined {
  if (old === next) return undefined
  let from = 0
  while (from < old.length && from < next.length && old[from] === next[from]) from++
  let end = 0
  while (end < old.length - from && end < next.length - from && old[old.length - 1 - end] === next[next.length - 1 - end]) end++
  return { from, to: old.length - end, insert: next.slice(from, next.length - end) }
}
