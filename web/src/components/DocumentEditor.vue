<script setup lang="ts">
import { setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState, RangeSet, StateEffect, StateField } from '@codemirror/state'
import { Decoration, EditorView, gutter, GutterMarker, lineNumbers } from '@codemirror/view'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { between, documentEditor, fromOutside, lineHeight, typing } from '../editor'
import { marginNotes, place, type MarginNote } from '../notes'
import { usePlan } from '../plan'
import FindingActions from './FindingActions.vue'

const props = defineProps<{ notes?: boolean; line?: number; spot?: boolean }>()
const plan = usePlan()
const heights = ref<number[]>([])
const notesBox = ref<HTMLElement>()
const desk = ref<HTMLElement>()
const paper = ref<HTMLElement>()
let view: EditorView | undefined

const all = computed(() => (plan.checked ? marginNotes(plan.checked) : []))
const margin = computed(() => all.value.slice(0, 300))
const tops = computed(() =>
  place(
    margin.value.map((n, i) => ({ line: n.line, height: heights.value[i] ?? 56 })),
    lineHeight,
    6,
  ),
)
const signs = { fault: '✗', stop: '✗', warn: '!', note: '·' }

class Sign extends GutterMarker {
  constructor(readonly severity: MarginNote['severity']) {
    super()
  }
  eq(other: Sign) {
    return other.severity === this.severity
  }
  toDOM() {
    const e = document.createElement('span')
    e.className = 'sign ' + this.severity
    e.textContent = signs[this.severity]
    return e
  }
}

// The signs of findings, and the line of what is edited beside: both are set from outside, and move with the text as one types.
const setSigns = StateEffect.define<RangeSet<Sign>>()
const signField = StateField.define<RangeSet<Sign>>({
  create: () => RangeSet.empty,
  update(set, tr) {
    for (const e of tr.effects) if (e.is(setSigns)) return e.value
    return set.map(tr.changes)
  },
})
const setSpot = StateEffect.define<number | undefined>()
const spotField = StateField.define({
  create: () => Decoration.none,
  update(set, tr) {
    for (const e of tr.effects)
      if (e.is(setSpot))
        return e.value && e.value <= tr.state.doc.lines
          ? Decoration.set([Decoration.line({ class: 'spot' }).range(tr.state.doc.line(e.value).from)])
          : Decoration.none
    return set.map(tr.changes)
  },
  provide: (f) => EditorView.decorations.from(f),
})

onMounted(() => {
  view = new EditorView({
    parent: paper.value,
    state: EditorState.create({
      doc: plan.text,
      extensions: [
        signField,
        spotField,
        gutter({ class: 'signs', markers: (v) => v.state.field(signField), initialSpacer: () => new Sign('note') }),
        lineNumbers(),
        typing(plan.undo, plan.redo),
        documentEditor('The plan, YAML'),
        EditorView.updateListener.of((u) => {
          if (u.docChanged && !u.transactions.some((t) => t.annotation(fromOutside))) plan.type(u.state.doc.toString())
        }),
      ],
    }),
  })
  mark()
  void go()
})
onBeforeUnmount(() => view?.destroy())

watch(
  () => plan.text,
  (text) => {
    const change = view && between(view.state.doc.toString(), text)
    if (change) view?.dispatch({ changes: change, annotations: fromOutside.of(true) })
  },
)

/** Puts signs and underlines where findings are. */
function mark() {
  if (!view) return
  const doc = view.state.doc
  const worst = new Map<number, MarginNote>()
  const underlines: Diagnostic[] = []
  for (const n of all.value) {
    if (n.line < 1 || n.line > doc.lines) continue
    const known = worst.get(n.line)
    if (!known || n.severity === 'stop' || n.severity === 'fault') worst.set(n.line, n)
    if (n.severity === 'note') continue
    const l = doc.line(n.line)
    underlines.push({
      from: l.from + l.text.length - l.text.trimStart().length,
      to: l.to,
      severity: n.severity === 'warn' ? 'warning' : 'error',
      message: n.problem + (n.fix ? '\n→ ' + n.fix : ''),
      actions: n.mend.length ? [{ name: 'Apply this fix', apply: () => void mend(n) }] : [],
    })
  }
  const set = RangeSet.of(
    [...worst.values()].map((n) => new Sign(n.severity).range(doc.line(n.line).from)),
    true,
  )
  view.dispatch({ effects: setSigns.of(set) })
  view.dispatch(setDiagnostics(view.state, underlines.slice(0, 500)))
}
watch(all, mark)

async function measure() {
  await nextTick()
  heights.value = [...(notesBox.value?.querySelectorAll<HTMLElement>('.margin') ?? [])].map((e) => e.offsetHeight)
}
watch(margin, measure, { immediate: true })

async function go() {
  await nextTick()
  view?.dispatch({ effects: setSpot.of(props.spot ? props.line : undefined) })
  if (props.line && desk.value) desk.value.scrollTop = Math.max(0, (props.line - 4) * lineHeight)
}
watch(() => props.line, go)

async function mend(n: MarginNote) {
  plan.problem = await plan.edit(n.mend)
}
</script>

<template>
  <v-card class="frame">
    <div ref="desk" class="desk" :class="{ wide: props.notes }">
      <div id="document" ref="paper" class="paper" />
      <div v-if="props.notes" ref="notesBox" class="notes">
        <article v-for="(n, i) in margin" :key="n.id" class="margin" :class="n.severity" :style="{ top: tops[i] + 'px' }">
          <b>{{ signs[n.severity] }} {{ n.severity === 'fault' ? 'not a plan' : n.severity }}, line {{ n.line }}</b>
          {{ n.problem }}
          <p v-if="n.fix">→ {{ n.fix }}</p>
          <FindingActions :mend="n.mend" :todo="n.todo" :label="`Apply the fix of line ${n.line}`" @refused="(w) => (plan.problem = w)" />
        </article>
      </div>
    </div>
  </v-card>
</template>

<style scoped>
.frame {
  height: 100%;
}
.desk {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  height: 100%;
  overflow: auto;
  padding: 8px 0;
}
.desk.wide {
  grid-template-columns: minmax(0, 1fr) 380px;
}
@media (max-width: 900px) {
  .desk.wide {
    grid-template-columns: minmax(0, 1fr);
  }
  .desk.wide .notes {
    border-left: 0;
    padding-top: 8px;
  }
  .desk.wide .margin {
    position: static;
    margin: 0 8px 6px;
  }
}
.paper :deep(.sign) {
  font-weight: 700;
  padding-left: 6px;
}
.paper :deep(.sign.stop),
.paper :deep(.sign.fault) {
  color: rgb(var(--v-theme-bad));
}
.paper :deep(.sign.warn) {
  color: rgb(var(--v-theme-caution));
}
.paper :deep(.spot) {
  background: rgba(255, 182, 39, 0.25);
}
.notes {
  position: relative;
  border-left: 1px solid rgba(128, 140, 160, 0.3);
}
.margin {
  position: absolute;
  left: 8px;
  right: 8px;
  padding: 4px 8px;
  font-size: 12px;
  line-height: 1.35;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(128, 140, 160, 0.4);
  border-left-width: 4px;
}
.margin b {
  display: block;
}
.margin p {
  margin: 2px 0 0;
}
.margin.stop,
.margin.fault {
  border-left-color: rgb(var(--v-theme-bad));
}
.margin.warn {
  border-left-color: rgb(var(--v-theme-lantern));
}
</style>
