<script setup lang="ts">
import { usePlan } from '../plan'
import type { Edit, Finding } from '../api'

// A finding with its fix; the slot is for what the place that shows it adds.
defineProps<{ finding: Finding }>()
const emit = defineEmits<{ refused: [string] }>()
const plan = usePlan()
const signs = { stop: '✗', warn: '!', note: '·' }

async function apply(mend: Edit[]) {
  emit('refused', await plan.edit(mend))
}
</script>

<template>
  <article class="finding" :class="finding.severity">
    <b>{{ signs[finding.severity] }} {{ finding.severity }}</b> {{ finding.problem }}
    <p>→ {{ finding.fix }}</p>
    <v-btn v-if="finding.mend?.length" size="x-small" variant="outlined" class="mr-1" @click="apply(finding.mend)">Apply this fix</v-btn>
    <slot />
  </article>
</template>

<style scoped>
.finding {
  font-size: 12.5px;
  padding: 4px 8px;
  margin: 4px 0;
  border-left: 4px solid rgba(128, 140, 160, 0.5);
}
.finding p {
  margin: 0;
}
.finding.stop {
  border-color: rgb(var(--v-theme-bad));
}
.finding.warn {
  border-color: rgb(var(--v-theme-lantern));
}
</style>
