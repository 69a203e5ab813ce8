<script setup lang="ts">
import { computed } from 'vue'
import { line, size } from '../live'
import type { Session } from '../api'

// What a session carried in the last two minutes: from the person, to the person, and below the packets that were lost.
const props = defineProps<{ session: Session }>()
const slots = 60
const width = 132
const height = 34
const samples = computed(() => props.session.traffic)
const top = computed(() => Math.max(1, ...samples.value.flatMap((s) => [s.in, s.out])))
const lost = computed(() => samples.value.map((s) => s.lost + s.missing))
const now = computed(() => samples.value.at(-1))
const words = computed(() => (now.value ? `from ${size(now.value.in / 2)}/s, to ${size(now.value.out / 2)}/s` : 'just begun'))
</script>

<template>
  <svg :width="width" :height="height + 10" role="img" :aria-label="`Traffic of the last two minutes: ${words}`">
    <rect :width="width" :height="height" class="box" />
    <polyline
      :points="
        line(
          samples.map((s) => s.in),
          width,
          height,
          top,
          slots,
        )
      "
      class="in"
    />
    <polyline
      :points="
        line(
          samples.map((s) => s.out),
          width,
          height,
          top,
          slots,
        )
      "
      class="out"
    />
    <template v-for="(n, i) in lost" :key="i">
      <rect v-if="n" :x="((slots - lost.length + i) / slots) * width" :y="height + 2" :width="width / slots" height="8" class="lost" />
    </template>
    <title>{{ words }}; solid: from the person; dashed: to the person; marks below: packets lost</title>
  </svg>
</template>

<style scoped>
.box {
  fill: rgba(128, 140, 160, 0.1);
}
polyline {
  fill: none;
  stroke-width: 1.5;
}
.in {
  stroke: rgb(var(--v-theme-primary));
}
.out {
  stroke: rgb(var(--v-theme-secondary));
  stroke-dasharray: 3 2;
}
.lost {
  fill: rgb(var(--v-theme-bad));
}
</style>
