<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, words, type Schemas } from '../api'
import { draftName, usePlan } from '../plan'
import MergeSides from './MergeSides.vue'

const emit = defineEmits<{ close: [] }>()
const plan = usePlan()
const conflicts = ref<Schemas['PlanConflict'][]>([])
const take = ref<('ours' | 'theirs')[]>([])
const problem = ref('')
const busy = ref(true)

async function rebase(sides: string[]) {
  busy.value = true
  const { data, error } = await api.POST('/api/v1/drafts/{name}/rebase', { params: { path: { name: draftName } }, body: { take: sides } })
  busy.value = false
  problem.value = error ? words(error) : ''
  if (!data) return
  conflicts.value = data.conflicts
  if (!data.conflicts.length) {
    await plan.load()
    emit('close')
  }
}
onMounted(() => rebase([]))
</script>

<template>
  <v-dialog :model-value="true" max-width="1080" scrollable @update:model-value="emit('close')">
    <v-card title="Bring the draft onto the newest revision">
      <v-card-text>
        <v-progress-linear v-if="busy" indeterminate />
        <v-alert v-if="problem" type="error" variant="tonal" role="alert">{{ problem }}</v-alert>
        <p v-if="conflicts.length" class="mb-3">
          You and somebody else changed the same lines. Choose whose stand; everything else of both is kept.
        </p>
        <section v-for="(c, i) in conflicts" :key="i" class="conflict">
          <h3>Line {{ c.line }} of the older plan</h3>
          <div class="choice">
            <label :class="{ taken: take[i] === 'ours' }"
              ><input v-model="take[i]" type="radio" :name="'take' + i" value="ours" /> this draft{{ c.ours ? '' : ': taken out' }}</label
            >
            <label :class="{ taken: take[i] === 'theirs' }"
              ><input v-model="take[i]" type="radio" :name="'take' + i" value="theirs" /> committed{{
                c.theirs ? '' : ': taken out'
              }}</label
            >
          </div>
          <MergeSides :ours="c.ours" :theirs="c.theirs" />
          <details>
            <summary>as it was before both</summary>
            <pre class="mono">{{ c.base || '(nothing)' }}</pre>
          </details>
        </section>
      </v-card-text>
      <v-card-actions class="pa-4">
        <v-btn @click="emit('close')">Back</v-btn>
        <v-btn
          id="settle"
          color="primary"
          variant="flat"
          :disabled="busy || !conflicts.length || conflicts.some((_, i) => !take[i])"
          @click="rebase(conflicts.map((_, i) => take[i]))"
          >Rebase with these</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.conflict {
  margin-bottom: 16px;
}
h3 {
  font-size: 13.5px;
}
.choice {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
}
label {
  border: 1px solid rgba(128, 140, 160, 0.5);
  padding: 6px;
  cursor: pointer;
}
label.taken {
  border-color: rgb(var(--v-theme-lantern));
  box-shadow: inset 4px 0 0 rgb(var(--v-theme-lantern));
}
pre {
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
