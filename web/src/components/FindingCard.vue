<script setup lang="ts">
import { ref } from 'vue'
import { usePlan } from '../plan'
import { api, words, type Edit, type Finding } from '../api'
import { settingQuery } from '../steps'

// A finding with what can be done about it, wherever it is shown: its fix as edits of the draft, what is to be done elsewhere, and the way to
// its setting. The slot is for what the place that shows it adds.
const props = defineProps<{ finding: Finding; link?: boolean }>()
const emit = defineEmits<{ refused: [string]; left: []; mended: [] }>()
const plan = usePlan()
const signs = { stop: '✗', warn: '!', note: '·' }
const busy = ref(false)

async function apply(mend: Edit[]) {
  const refusal = await plan.edit(mend)
  emit('refused', refusal)
  if (!refusal) emit('mended')
}

async function certify(name: string, dial: string) {
  busy.value = true
  const { error } = await api.POST('/api/v1/certificates/{name}', { params: { path: { name } }, body: { for: [dial] } })
  await plan.look()
  busy.value = false
  emit('refused', error ? words(error) : '')
  if (!error) emit('mended')
}

const where = () => ({ path: '/plan', query: settingQuery(props.finding.path) })
</script>

<template>
  <article class="finding" :class="finding.severity">
    <b
      >{{ signs[finding.severity] }} {{ finding.severity }}<template v-if="link">, line {{ finding.line }}</template></b
    >
    {{ finding.problem }}
    <p>→ {{ finding.fix }}</p>
    <v-btn v-if="finding.mend?.length" size="x-small" variant="outlined" class="mr-1" @click="apply(finding.mend)">Apply this fix</v-btn>
    <v-btn
      v-if="finding.do?.what === 'add-person'"
      size="x-small"
      variant="outlined"
      class="mr-1"
      :to="{ path: '/people', query: { add: finding.do.name } }"
      @click="emit('left')"
      >Add a person to {{ finding.do.name }}</v-btn
    >
    <v-btn
      v-else-if="finding.do?.what === 'make-certificate' && finding.do.for"
      size="x-small"
      variant="outlined"
      class="mr-1"
      :loading="busy"
      @click="certify(finding.do.name, finding.do.for)"
      >Make certificate {{ finding.do.name }} for {{ finding.do.for }}</v-btn
    >
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
