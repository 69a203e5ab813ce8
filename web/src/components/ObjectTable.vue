<script setup lang="ts">
import { computed, markRaw } from 'vue'
import type { Schemas } from '../api'
import { usePlan } from '../plan'

// The objects of one kind, with the columns that the service says matter; sorted by any of them. Only rows that can be seen are drawn.
const props = defineProps<{
  list: Schemas['OutlineList']
  wanted: string
  onlyFound: boolean
  /** What is known of each object beside the plan, by its name: a column more. */
  beside?: { title: string; of: Record<string, string> }
}>()
const emit = defineEmits<{ open: [string] }>()
const plan = usePlan()
const signs: Record<string, string> = { stop: '✗', warn: '!' }

const worst = computed(() => {
  const out: Record<string, string> = {}
  for (const f of [...(plan.checked?.findings ?? [])].reverse())
    if (f.severity !== 'note') out[f.path.split('/').slice(0, 2).join('/')] = f.severity
  return out
})
const ordered = computed(() => plan.forms.find((f) => f.kind === props.list.kind)?.order)

interface Item {
  [column: string]: string | number | boolean | undefined
  path: string
  name: string
  off?: boolean
}
const items = computed<Item[]>(() =>
  props.list.rows.map((r, i) => {
    const item: Item = { path: `${props.list.kind}/${r.name}`, name: r.name, off: r.off, place: i + 1 }
    item.sign = worst.value[item.path] ?? ''
    r.cells.forEach((c, k) => (item['c' + k] = c))
    if (props.beside) item.beside = props.beside.of[r.name] ?? '–'
    return markRaw(item)
  }),
)
const shown = computed(() => {
  const wanted = props.wanted.toLowerCase()
  const settings = props.list.columns.map((_, k) => 'c' + k)
  return items.value.filter(
    (x) =>
      (!props.onlyFound || x.sign) &&
      ['name', ...settings].some((c) =>
        String(x[c] ?? '')
          .toLowerCase()
          .includes(wanted),
      ),
  )
})
const headers = computed(() => [
  { title: '', key: 'sign', width: 24, sortable: true },
  ...(ordered.value ? [{ title: '#', key: 'place', width: 40 }] : []),
  { title: 'name', key: 'name' },
  ...props.list.columns.map((title, k) => ({ title, key: 'c' + k })),
  ...(props.beside ? [{ title: props.beside.title, key: 'beside', align: 'end' as const, sortRaw: more }] : []),
])
const more = (a: Item, b: Item) => (Number(a.beside) || 0) - (Number(b.beside) || 0) // one that does not run has none

const open = (path: string) => emit('open', path)
const rowProps = ({ item }: { item: Item }) => ({
  tabindex: 0,
  'aria-label': item.path,
  class: { off: item.off },
  onClick: () => open(item.path),
  onKeydown: (e: KeyboardEvent) => e.key === 'Enter' && open(item.path),
})
</script>

<template>
  <v-data-table-virtual
    :headers="headers"
    :items="shown"
    item-value="path"
    density="compact"
    fixed-header
    :height="shown.length > 18 ? 600 : undefined"
    :row-props="rowProps"
    class="objects"
    no-data-text="Nothing matches."
  >
    <template #[`item.sign`]="{ item }">
      <b :class="String(item.sign)">{{ signs[String(item.sign)] ?? '' }}</b>
    </template>
    <template #[`item.name`]="{ item }">
      <b>{{ item.name }}</b><small v-if="item.off"> (off)</small>
    </template>
  </v-data-table-virtual>
</template>

<style scoped>
.objects {
  font-size: 12.5px;
}
.objects :deep(th) {
  font-size: 12px;
  white-space: nowrap;
}
.objects :deep(th),
.objects :deep(tr[aria-label] td) {
  padding: 0 8px !important;
}
.objects :deep(tr[aria-label] td) {
  padding-block: 3px !important;
  height: 30px !important;
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  .objects :deep(table) {
    min-width: 680px;
  }
}
.objects :deep(tbody tr) {
  cursor: pointer;
}
.objects :deep(tbody tr:hover),
.objects :deep(tbody tr:focus-visible) {
  background: rgba(255, 182, 39, 0.13);
}
.objects :deep(tr.off) {
  opacity: 0.6;
}
.stop {
  color: rgb(var(--v-theme-bad));
}
.warn {
  color: rgb(var(--v-theme-caution));
}
</style>
