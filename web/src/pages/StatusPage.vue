<script setup lang="ts">
import { mdiAlert, mdiCheckCircle, mdiCloseCircle } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { api, words, type Point } from '../api'
import AskMirror from '../components/AskMirror.vue'

const points = ref<Point[]>([])
const at = ref('')
const problem = ref('')

async function load() {
  const { data, error } = await api.GET('/api/v1/standing')
  problem.value = error ? words(error) : ''
  if (!data) return
  points.value = data
  at.value = new Date().toLocaleTimeString()
}
onMounted(load)
const looking = window.setInterval(load, 10000)
onBeforeUnmount(() => window.clearInterval(looking))

const looks: Record<string, { icon: string; color: string; word: string }> = {
  right: { icon: mdiCheckCircle, color: 'good', word: 'right' },
  risky: { icon: mdiAlert, color: 'caution', word: 'look at it' },
  wrong: { icon: mdiCloseCircle, color: 'bad', word: 'wrong' },
}
const rank: Record<string, number> = { wrong: 0, risky: 1, right: 2 }
// What is wrong first; otherwise in the order in which to look.
const sorted = computed(() => [...points.value].sort((a, b) => rank[a.state]! - rank[b.state]!))
const wrong = computed(() => points.value.filter((p) => p.state === 'wrong').length)
const risky = computed(() => points.value.filter((p) => p.state === 'risky').length)
const verdict = computed(() => {
  if (wrong.value) return wrong.value === 1 ? 'One thing is wrong' : `${wrong.value} things are wrong`
  return risky.value ? 'People can get in; somebody should look' : 'People can get in'
})
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center flex-wrap ga-4 mb-3">
      <h1>Status</h1>
      <v-chip v-if="points.length" id="verdict" :color="wrong ? 'bad' : risky ? 'caution' : 'good'" variant="flat">{{ verdict }}</v-chip>
      <v-spacer />
      <span v-if="at" class="text-medium-emphasis">looked at {{ at }}</span>
    </div>
    <v-alert v-if="problem" type="error" variant="tonal" role="alert">{{ problem }}</v-alert>
    <v-card v-if="points.length">
      <table class="plain">
        <thead>
          <tr>
            <th>How</th>
            <th>What</th>
            <th>In words</th>
            <th>What to do</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(p, i) in sorted" :key="i" :class="p.state">
            <td class="how">
              <v-icon :icon="looks[p.state]!.icon" :color="looks[p.state]!.color" size="small" class="mr-1" />{{ looks[p.state]!.word }}
            </td>
            <td>{{ p.name }}</td>
            <td>
              {{ p.words }}
              <router-link v-if="p.setting" :to="{ path: '/plan', query: { at: p.setting } }">in the plan</router-link>
            </td>
            <td class="mend">{{ p.mend }}</td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <AskMirror class="mt-5" @asked="load" />
  </div>
</template>

<style scoped>
.how {
  white-space: nowrap;
}
.mend {
  max-width: 420px;
}
</style>
