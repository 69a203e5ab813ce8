<script setup lang="ts">
import { reactive, ref, watch } from 'vue'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'

/** Keys that one person and the gateway both know. */
const props = defineProps<{ user: string }>()
type Key = Schemas['PeopleSharedKey']
const keys = ref<Key[]>([])
const problem = ref('')
const made = ref<Key>()
const uses = [
  { value: 'login', title: 'to log in by' },
  { value: 'mixed-in', title: 'mixed into keys for traffic' },
] as const
const form = reactive<{ use: Key['use']; device: string; value: string }>({ use: 'login', device: '', value: '' })
const clear = () => Object.assign(form, { device: '', value: '' })

async function load() {
  const { data, error } = await api.GET('/api/v1/shared-keys', { params: { query: { user: props.user } } })
  keys.value = data ?? []
  problem.value = error ? words(error) : ''
}
watch(
  () => props.user,
  () => {
    made.value = undefined
    clear()
    return load()
  },
  { immediate: true },
)

async function make() {
  const { data, error } = await api.POST('/api/v1/users/{name}/shared-keys', {
    params: { path: { name: props.user } },
    body: { use: form.use, device: form.device, value: form.use === 'login' ? form.value : '' },
  })
  made.value = data
  if (data) clear()
  await load()
  if (error) problem.value = words(error)
}

async function revoke(k: Key) {
  if (!(await sure(`Take back the shared key ${k.device ? `on ${k.device}` : k.id}? What has it in use ends at once.`, 'Take back'))) return
  const { error } = await api.DELETE('/api/v1/shared-keys/{id}', { params: { path: { id: k.id } } })
  await load()
  if (error) problem.value = words(error)
}
const title = (k: Key) => uses.find((u) => u.value === k.use)?.title
</script>

<template>
  <div id="shared-keys" class="mt-4">
    <h2 class="mb-1">Shared keys</h2>
    <p class="text-medium-emphasis mb-2">
      Keys that the person and the gateway both know: one to log in by, for tunnels with <code>login: pre-shared-key</code>, and one for
      each device that mixes it into what protects traffic (<code>mixed-in-key</code>), against whoever records it today and has a quantum
      computer later.
    </p>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-2" role="alert" density="compact">{{ problem }}</v-alert>
    <table v-if="keys.length" class="mb-2">
      <tbody>
        <tr v-for="k in keys" :key="k.id">
          <td>
            <b>{{ k.device || 'a device' }}</b>
          </td>
          <td>{{ title(k) }}</td>
          <td>● since {{ new Date(k.made).toLocaleDateString() }}</td>
          <td class="id">{{ k.id }}</td>
          <td><v-btn size="small" variant="text" @click="revoke(k)">Take back</v-btn></td>
        </tr>
      </tbody>
    </table>
    <v-alert v-if="made" type="success" variant="tonal" density="compact" class="mb-2">
      {{
        made.value
          ? 'This is the only time that it is shown; it belongs into a file on the device:'
          : 'The key counts from now on; a file for yl dial holds'
      }}
      <code class="value">{{ made['for-dial'] }}</code>
    </v-alert>
    <form class="d-flex ga-3 flex-wrap align-start" @submit.prevent="make">
      <v-select id="shared-use" v-model="form.use" label="Use" :items="[...uses]" variant="outlined" density="compact" max-width="270" />
      <v-text-field id="shared-device" v-model="form.device" label="Device" hint="What the key is on, in your words" persistent-hint />
      <v-text-field
        v-if="form.use === 'login'"
        id="shared-value"
        v-model="form.value"
        label="Key"
        type="password"
        autocomplete="off"
        hint="One that the device has already; generated if left empty"
        persistent-hint
        min-width="320"
      />
      <v-btn id="make-shared" type="submit" variant="outlined">Make the key</v-btn>
    </form>
  </div>
</template>

<style scoped>
td {
  padding: 2px 12px 2px 0;
  vertical-align: baseline;
}
.id {
  font-size: 12px;
}
.value {
  color: rgb(var(--v-theme-on-surface));
  overflow-wrap: anywhere;
}
</style>
