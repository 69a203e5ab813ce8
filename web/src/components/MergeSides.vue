<script setup lang="ts">
import { MergeView } from '@codemirror/merge'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { documentEditor } from '../editor'

// Two versions of the same lines side by side, with what differs between them marked.
const props = defineProps<{ ours: string; theirs: string }>()
const box = ref<HTMLElement>()
let view: MergeView | undefined

onMounted(() => {
  const side = (text: string, label: string) => ({
    doc: text.replace(/\n$/, ''),
    extensions: [documentEditor(label), EditorState.readOnly.of(true), EditorView.lineWrapping],
  })
  view = new MergeView({
    a: side(props.ours, 'The lines of this draft'),
    b: side(props.theirs, 'The lines that were committed'),
    parent: box.value,
    gutter: false,
  })
})
onBeforeUnmount(() => view?.destroy())
</script>

<template>
  <div ref="box" class="sides" />
</template>

<style scoped>
.sides {
  border: 1px solid rgba(128, 140, 160, 0.5);
}
.sides :deep(.cm-mergeViewEditor:first-child) {
  border-right: 1px solid rgba(128, 140, 160, 0.5);
}
.sides :deep(.cm-line) {
  padding: 0 8px;
}
</style>
