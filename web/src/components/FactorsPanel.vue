<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'

/** One person's second factors, and what is done when they lose a device. */
const props = defineProps<{ user: string }>()
const factors = ref<Schemas['PeopleFactor'][]>([])
const problem = ref('')
const link = ref<Schemas['Choice']>()
const lost = ref<Schemas['Lost']>()

async function load() {
  const { data, error } = await api.GET('/api/v1/second-factors', { params: { query: { user: props.user } } })
  factors.value = data ?? []
  problem.value = error ? words(error) : ''
}
watch(
  () => props.user,
  () => {
    link.value = lost.value = undefined
    return load()
  },
  { immediate: true },
)

async function makeLink() {
  const { data, error } = await api.POST('/api/v1/users/{name}/second-factor-links', { params: { path: { name: props.user } }, body: {} })
  problem.value = error ? words(error) : ''
  link.value = data
}

async function lose() {
  const question = `Has ${props.user} lost a device? Their sessions end, their second factors and remembered devices are forgotten, and they get a link for another.`
  if (!(await sure(question, 'End and forget'))) return
  const { data, error } = await api.POST('/api/v1/users/{name}/lost-device', { params: { path: { name: props.user } }, body: {} })
  await load()
  problem.value = error ? words(error) : ''
  lost.value = link.value = data
}
const shown = computed(() => (link.value?.url.startsWith('/') ? location.origin + link.value.url : (link.value?.url ?? '')))
</script>

<template>
  <div id="factors" class="mt-4">
    <h2 class="mb-1">Second factor</h2>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-2" role="alert" density="compact">{{ problem }}</v-alert>
    <table v-if="factors.length" class="mb-2">
      <tbody>
        <tr v-for="f in factors" :key="f.id">
          <td>
            <b>{{ f.device || 'an app' }}</b>
          </td>
          <td>codes by {{ f.kind === 'time' ? 'time' : 'a counter' }}</td>
          <td>● since {{ new Date(f.added).toLocaleDateString() }}</td>
          <td>{{ f.used ? `last used ${new Date(f.used).toLocaleString()}` : 'never used' }}</td>
          <td :class="{ 'text-bad': f.recovery === 0 }">{{ f.recovery }} recovery codes left</td>
        </tr>
      </tbody>
    </table>
    <p v-else class="text-medium-emphasis mb-2">None. Where their passage asks for one they reach nothing but the code page.</p>
    <v-alert v-if="lost" id="lost" type="success" variant="tonal" density="compact" class="mb-2">
      Sessions ended: {{ lost.sessions }}. Second factors forgotten: {{ lost.factors }}. Keys on the device are taken back above.
    </v-alert>
    <v-alert v-if="link" id="factor-link" type="info" variant="tonal" density="compact" class="mb-2">
      For {{ link.user }} alone. Shown once, counts once, until {{ new Date(link.expires).toLocaleString() }}:<br /><code>{{ shown }}</code>
    </v-alert>
    <div class="d-flex ga-3">
      <v-btn id="make-factor-link" variant="outlined" size="small" @click="makeLink">Link to get one</v-btn>
      <v-btn id="lost-device" variant="outlined" size="small" color="error" @click="lose">Lost device</v-btn>
    </div>
  </div>
</template>

<style scoped>
td {
  padding: 2px 12px 2px 0;
  vertical-align: baseline;
}
code {
  overflow-wrap: anywhere;
}
</style>
