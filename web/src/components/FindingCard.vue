<script setup lang="ts">
import type { Finding } from '../api'
import { settingQuery } from '../steps'
import FindingActions from './FindingActions.vue'

// A finding with what can be done about it, wherever it is shown, and the way to its setting. The slot is for what the place that shows it adds.
const props = defineProps<{ finding: Finding; link?: boolean }>()
const emit = defineEmits<{ refused: [string]; left: []; mended: [] }>()
const signs = { stop: '✗', warn: '!', note: '·' }
const where = () => ({ path: '/plan', query: settingQuery(props.finding.path) })
</script>

<template>
  <article class="finding" :class="finding.severity">
    <b
      >{{ signs[finding.severity] }} {{ finding.severity }}<template v-if="link">, line {{ finding.line }}</template></b
    >
    {{ finding.problem }}
    <p>→ {{ finding.fix }}</p>
    <FindingActions
      :mend="finding.mend"
      :todo="finding.do"
      @refused="(w) => emit('refused', w)"
      @left="emit('left')"
      @mended="emit('mended')"
    />
    <v-btn v-if="link" size="x-small" variant="text" :to="where()" @click="emit('left')">open {{ finding.path.split('/')[1] }}</v-btn>
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
