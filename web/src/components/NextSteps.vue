<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, type Schemas } from '../api'

const steps = ref<Schemas['Next'][]>([])
onMounted(async () => {
  const { data } = await api.GET('/api/v1/next')
  steps.value = data ?? []
})
const acts: Record<string, string> = {
  plan: 'Begin',
  person: 'Add a person',
  commit: 'Review and commit',
  device: 'To certificates',
  trial: 'Try',
}
</script>

<template>
  <v-card v-if="steps.length" id="next" class="pa-4 mb-3" max-width="760">
    <h2 class="mb-2">What is left until the first person is in</h2>
    <ol>
      <li v-for="s in steps" :key="s.step" class="mb-2">
        {{ s.words }}
        <v-btn :to="s.where" size="x-small" variant="outlined" class="ml-2">{{ acts[s.step] }}</v-btn>
      </li>
    </ol>
  </v-card>
</template>

<style scoped>
ol {
  padding-left: 20px;
}
</style>
