<script setup lang="ts">
import { mdiAlert, mdiCheckCircle, mdiCloseCircle } from '@mdi/js'
import { ref } from 'vue'
import { api, words, type Point } from '../api'

// Asks a mirror elsewhere which address it sees of the gateway, and whether it gets in.
const emit = defineEmits<{ asked: [] }>()
const mirror = ref('')
const token = ref('')
const asking = ref(false)
const problem = ref('')
const saw = ref<Point[]>([])

async function ask() {
  asking.value = true
  saw.value = []
  const { data, error } = await api.POST('/api/v1/outside/mirror', { body: { mirror: mirror.value.trim(), token: token.value.trim() } })
  asking.value = false
  token.value = '' // good for once
  problem.value = error ? words(error) : ''
  saw.value = data?.points ?? []
  emit('asked')
}
const looks: Record<string, { icon: string; color: string }> = {
  right: { icon: mdiCheckCircle, color: 'good' },
  risky: { icon: mdiAlert, color: 'caution' },
  wrong: { icon: mdiCloseCircle, color: 'bad' },
}
</script>

<template>
  <form class="d-flex align-center flex-wrap ga-3" @submit.prevent="ask">
    <div class="w-100">
      <strong>Look from outside.</strong> Run <code>yl mirror</code> on a machine elsewhere; it tells which address it sees, and knocks at
      the ports of what runs.
    </div>
    <v-text-field v-model="mirror" label="Mirror's address and port" placeholder="203.0.113.80:8743" min-width="220" max-width="260" />
    <v-text-field v-model="token" label="Token that it printed" min-width="220" max-width="340" autocomplete="off" />
    <v-btn id="ask-mirror" type="submit" color="primary" :loading="asking" :disabled="!mirror || !token">Ask it</v-btn>
    <v-alert v-if="problem" class="w-100" type="error" variant="tonal" role="alert">{{ problem }}</v-alert>
    <ul v-if="saw.length" id="mirror-saw" class="w-100" role="status">
      <li v-for="(p, i) in saw" :key="i">
        <v-icon :icon="looks[p.state]!.icon" :color="looks[p.state]!.color" size="small" class="mr-1" />{{ p.words }}
        <span v-if="p.mend" class="text-medium-emphasis">→ {{ p.mend }}</span>
      </li>
    </ul>
  </form>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
}
</style>
