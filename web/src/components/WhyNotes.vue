<script setup lang="ts">
import { computed } from 'vue'
import { usePlan } from '../plan'

// Why what was proposed is as it is, beside what it is about; folded away.
const props = defineProps<{ about: (path: string) => boolean }>()
const plan = usePlan()
const reasons = computed(() => plan.reasons.filter((r) => props.about(r.path)))
</script>

<template>
  <details v-if="reasons.length" class="why">
    <summary>Why it was proposed like this</summary>
    <p v-for="r in reasons" :key="r.path + r.why">
      <span class="mono">{{ r.path }}</span> {{ r.why }}
    </p>
  </details>
</template>

<style scoped>
.why {
  font-size: 12.5px;
  margin: 2px 0 8px;
}
.why summary {
  cursor: pointer;
  font-weight: 600;
}
.why p {
  margin: 2px 0;
}
</style>
