<script setup lang="ts">
import { reactive, ref, watch } from 'vue'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'

/** The keys of one person's devices: what a tunnel may want in place of a password. */
const props = defineProps<{ user: string }>()
type Key = Schemas['PeopleKey']
const keys = ref<Key[]>([])
const problem = ref('')
const made = ref<Key>()
const form = reactive({ device: '', public: '' })

async function load() {
  const { data, error } = await api.GET('/api/v1/keys', { params: { query: { user: props.user } } })
  keys.value = data ?? []
  problem.value = error ? words(error) : ''
}
watch(
  () => props.user,
  () => {
    made.value = undefined
    Object.assign(form, { device: '', public: '' })
    return load()
  },
  { immediate: true },
)

async function add() {
  const { data, error } = await api.POST('/api/v1/users/{name}/keys', {
    params: { path: { name: props.user } },
    body: { device: form.device, public: form.public },
  })
  made.value = data
  if (data) Object.assign(form, { device: '', public: '' })
  await load()
  if (error) problem.value = words(error)
}

async function revoke(k: Key) {
  if (
    !(await sure(
      `Take back the key ${k.device ? `on ${k.device}` : k.fingerprint.slice(0, 23)}? What it has open ends at once.`,
      'Take back',
    ))
  )
    return
  const { error } = await api.DELETE('/api/v1/keys/{fingerprint}', { params: { path: { fingerprint: k.fingerprint } } })
  await load()
  if (error) problem.value = words(error)
}

const state = (k: Key) => {
  if (k.revoked) return `▲ taken back on ${new Date(k.revoked).toLocaleDateString()}`
  return k.expires ? `● until ${new Date(k.expires).toLocaleDateString()}` : '● counts'
}
const download = (k: Key) => `data:application/x-pem-file,${encodeURIComponent(k.certificate ?? '')}`
</script>

<template>
  <div id="keys" class="mt-3">
    <h2 class="mb-1">Keys</h2>
    <p class="text-medium-emphasis mb-2">
      For tunnels that want a key or a certificate in place of a password. The device makes its key (<code>yl dial new-key FILE</code>, or a
      signing request by its own tools), and only the public part comes here; the device shows the same fingerprint.
    </p>
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-2" role="alert" density="compact">{{ problem }}</v-alert>
    <table v-if="keys.length" class="mb-2">
      <tbody>
        <tr v-for="k in keys" :key="k.fingerprint">
          <td>
            <b>{{ k.device || 'a device' }}</b>
          </td>
          <td>{{ k.kind === 'certificate' ? 'certificate' : 'public key' }}</td>
          <td>{{ state(k) }}</td>
          <td class="mono">{{ k.fingerprint }}</td>
          <td>
            <v-btn v-if="k.certificate && !k.revoked" size="small" variant="text" :href="download(k)" :download="`${user}.pem`"
              >Certificate</v-btn
            >
            <v-btn v-if="!k.revoked" size="small" variant="text" @click="revoke(k)">Take back</v-btn>
          </td>
        </tr>
      </tbody>
    </table>
    <v-alert v-if="made" type="success" variant="tonal" density="compact" class="mb-2">
      {{ made.certificate ? 'A certificate is issued for the key: hand it to the device.' : 'The key counts from now on.' }} The device must
      show
      <span class="mono">{{ made.fingerprint }}</span>
    </v-alert>
    <form class="d-flex ga-3 flex-wrap align-start" @submit.prevent="add">
      <v-text-field id="key-device" v-model="form.device" label="Device" hint="What the key is on, in your words" persistent-hint />
      <v-textarea
        id="key-public"
        v-model="form.public"
        label="Public key or signing request"
        hint="PEM; for a signing request a certificate is issued"
        persistent-hint
        rows="2"
        variant="outlined"
        density="compact"
        min-width="380"
      />
      <v-btn id="add-key" type="submit" variant="outlined" :disabled="!form.public.trim()">Add the key</v-btn>
    </form>
  </div>
</template>

<style scoped>
td {
  padding: 2px 12px 2px 0;
  vertical-align: top;
}
.mono {
  color: rgb(var(--v-theme-on-surface));
}
td.mono {
  max-width: 420px;
  overflow-wrap: anywhere;
  font-size: 12px;
}
</style>
