<script setup lang="ts">
import { ref } from 'vue'
import { words } from '../api'
import { stop, working, type Task } from '../working'

const refused = ref<{ id: number; words: string }>() // not everybody may

async function end(t: Task) {
  const { error } = await stop(t)
  refused.value = error ? { id: t.id, words: words(error) } : undefined
}
</script>

<template>
  <div v-if="working.length" id="working" role="status" aria-live="polite">
    <div v-for="t in working" :key="t.id" class="task">
      <v-progress-linear :model-value="(100 * t.done) / Math.max(1, t.of)" color="lantern" height="4" :aria-label="t.words" />
      <span
        >{{ t.words }}<b v-if="refused?.id === t.id" class="text-bad"> · {{ refused.words }}</b></span
      >
      <v-btn size="x-small" variant="outlined" @click="end(t)">Stop</v-btn>
    </div>
  </div>
</template>

<style scoped>
#working {
  position: fixed;
  bottom: 0;
  left: 0;
  right: 0;
  z-index: 1000;
  background: rgb(var(--v-theme-surface));
  border-top: 1px solid rgba(128, 140, 160, 0.4);
  font-size: 13px;
}
.task {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 12px;
  padding: 0 20px 6px;
}
.task span {
  flex: 1;
  padding-top: 4px;
}
.task .v-btn {
  margin-top: 4px;
}
</style>
