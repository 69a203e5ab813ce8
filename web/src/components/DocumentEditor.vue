<script setup lang="ts">
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import { marginNotes, place, type MarginNote } from '../notes'
import { usePlan } from '../plan'

const props = defineProps<{ notes?: boolean; line?: number; spot?: boolean }>()
const plan = usePlan()
const lineHeight = 20
const heights = ref<number[]>([])
const notesBox = ref<HTMLElement>()
const desk = ref<HTMLElement>()
const top = ref(0)
const room = ref(800)

const lines = computed(() => plan.text.split('\n').length)
const margin = computed(() => (plan.checked ? marginNotes(plan.checked).slice(0, 300) : []))
const tops = computed(() =>
  place(
    margin.value.map((n, i) => ({ line: n.line, height: heights.value[i] ?? 56 })),
    lineHeight,
    6,
  ),
)
const signs = { fault: '✗', stop: '✗', warn: '!', note: '·' }
const worst = computed(() => {
  const out: Record<number, MarginNote['severity']> = {}
  for (const n of [...(plan.checked ? marginNotes(plan.checked) : [])].reverse())
    if (!out[n.line] || n.severity === 'stop' || n.severity === 'fault') out[n.line] = n.severity
  return out
})
// Only the numbers that can be seen are drawn: a plan may have thousands of lines.
const seen = computed(() => {
  const first = Math.max(1, Math.floor(top.value / lineHeight) - 20)
  const last = Math.min(lines.value, Math.ceil((top.value + room.value) / lineHeight) + 20)
  return Array.from({ length: Math.max(0, last - first + 1) }, (_, i) => first + i)
})

function look() {
  top.value = desk.value?.scrollTop ?? 0
  room.value = desk.value?.clientHeight ?? 800
}

async function measure() {
  await nextTick()
  heights.value = [...(notesBox.value?.querySelectorAll<HTMLElement>('.margin') ?? [])].map((e) => e.offsetHeight)
}
watch(margin, measure, { immediate: true })

async function go() {
  await nextTick()
  if (props.line && desk.value) desk.value.scrollTop = Math.max(0, (props.line - 4) * lineHeight)
  look()
}
watch(() => props.line, go)
onMounted(go)

async function mend(n: MarginNote) {
  plan.problem = await plan.edit(n.mend)
}

function indent(e: KeyboardEvent) {
  const area = e.target as HTMLTextAreaElement
  area.setRangeText('  ', area.selectionStart, area.selectionEnd, 'end')
  plan.type(area.value)
}
</script>

<template>
  <v-card ref="card" class="frame">
    <div ref="desk" class="desk" :class="{ wide: props.notes }" @scroll.passive="look">
      <div class="gutter mono" aria-hidden="true" :style="{ height: lines * lineHeight + 'px' }">
        <div v-for="n in seen" :key="n" :class="worst[n]" :style="{ top: (n - 1) * lineHeight + 'px' }">
          {{ worst[n] ? signs[worst[n]] : '' }} {{ n }}
        </div>
      </div>
      <div class="paper">
        <div v-if="props.spot && props.line" class="spot" :style="{ top: (props.line - 1) * lineHeight + 'px' }" />
        <textarea
          id="document"
          :value="plan.text"
          class="mono"
          :rows="lines"
          spellcheck="false"
          wrap="off"
          aria-label="The plan, YAML"
          @input="plan.type(($event.target as HTMLTextAreaElement).value)"
          @keydown.tab.exact.prevent="indent"
        />
      </div>
      <div v-if="props.notes" ref="notesBox" class="notes">
        <article v-for="(n, i) in margin" :key="n.id" class="margin" :class="n.severity" :style="{ top: tops[i] + 'px' }">
          <b>{{ signs[n.severity] }} {{ n.severity === 'fault' ? 'not a plan' : n.severity }}, line {{ n.line }}</b>
          {{ n.problem }}
          <p v-if="n.fix">→ {{ n.fix }}</p>
          <v-btn
            v-if="n.mend.length"
            size="x-small"
            variant="outlined"
            class="mt-1"
            :aria-label="`Apply the fix of line ${n.line}`"
            @click="mend(n)"
            >Apply this fix</v-btn
          >
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
  grid-template-columns: 56px minmax(0, 1fr);
  height: 100%;
  overflow: auto;
  padding: 8px 0;
}
.desk.wide {
  grid-template-columns: 64px minmax(0, 1fr) 380px;
}
.gutter,
textarea {
  font-size: 12px;
  line-height: 20px;
}
.gutter {
  position: relative;
  color: rgb(var(--v-theme-quiet));
  user-select: none;
}
.gutter div {
  position: absolute;
  right: 8px;
  white-space: nowrap;
}
.gutter .stop,
.gutter .fault {
  color: rgb(var(--v-theme-bad));
  font-weight: 700;
}
.gutter .warn {
  color: rgb(var(--v-theme-caution));
  font-weight: 700;
}
.paper {
  position: relative;
}
.spot {
  position: absolute;
  left: 0;
  right: 0;
  height: 20px;
  background: rgba(255, 182, 39, 0.25);
  pointer-events: none;
}
textarea {
  position: relative;
  width: 100%;
  resize: none;
  overflow-y: hidden;
  overflow-x: auto;
  border: 0;
  outline-offset: -3px;
  color: inherit;
  background: transparent;
  white-space: pre;
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
