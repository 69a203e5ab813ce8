<script setup lang="ts">
import { ref } from 'vue'
import { api, words, type Schemas } from '../api'
import * as key from '../securitykey'

/** One's own second factor for signing in: an app that makes codes, security keys. */
defineProps<{ has: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const problem = ref('')
const factor = ref<Schemas['OwnEnrolling']>()
const adding = ref(false)
const code = ref('')
const own = ref('')
const called = ref('my security key')
const codes = ref<string[]>([])
const done = ref('')
const usable = key.usable()

function over(made?: string[] | null) {
  codes.value = made ?? []
  factor.value = undefined
  adding.value = false
  code.value = own.value = ''
  emit('changed')
}

async function begin() {
  const { data, error } = await api.GET('/api/v1/me/second-factor')
  factor.value = data
  problem.value = error ? words(error) : ''
}

async function take() {
  const { data, error } = await api.PUT('/api/v1/me/second-factor', {
    body: { password: own.value, secret: factor.value?.secret ?? '', code: code.value },
  })
  problem.value = error ? words(error) : ''
  code.value = ''
  if (data) over(data['recovery-codes'])
}

async function addKey() {
  problem.value = done.value = ''
  const { data, error } = await api.GET('/api/v1/me/security-key')
  if (!data) return void (problem.value = words(error))
  let answer = ''
  try {
    answer = await key.add(data.options)
  } catch (e) {
    return void (problem.value = key.failed(e))
  }
  const added = await api.PUT('/api/v1/me/security-key', {
    body: { password: own.value, code: code.value || undefined, name: called.value, key: answer },
  })
  if (added.error) return void (problem.value = words(added.error))
  done.value = `${called.value} is added: it is asked for wherever you sign in by this page's name.`
  over(added.data?.['recovery-codes'])
}
</script>

<template>
  <v-card class="pa-4 mb-4">
    <h2 class="mb-2">Your second factor</h2>
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" class="mb-3" role="alert">{{ problem }}</v-alert>
    <p v-if="done" id="key-added" class="mb-2" role="status">{{ done }}</p>
    <template v-if="codes.length">
      <p>It is asked for from now on. Keep these recovery codes, each for once; they are shown this once:</p>
      <pre id="recovery">{{ codes.join('\n') }}</pre>
    </template>
    <p v-else-if="has" class="mb-2">You have one. <code>yl own second-factor forget</code> forgets it.</p>
    <p v-else class="mb-2">None: whoever learns your password can sign in.</p>
    <form v-if="factor" class="d-flex ga-3 flex-wrap align-start mb-3" @submit.prevent="take">
      <img v-if="factor.picture" alt="the key, as a picture" width="160" height="160" :src="`data:image/png;base64,${factor.picture}`" />
      <p class="full">
        Scan the picture with an app that makes codes by time, or type this key into it, then the code that it shows:
        <code id="own-secret">{{ factor.secret }}</code>
      </p>
      <v-text-field id="own-code" v-model="code" label="Code" inputmode="numeric" autocomplete="one-time-code" max-width="200" />
      <v-text-field id="own-password" v-model="own" label="Your password" type="password" autocomplete="current-password" max-width="260" />
      <v-btn id="take-own" type="submit" variant="outlined" :disabled="!code || !own">Take it</v-btn>
    </form>
    <form v-else-if="adding" class="d-flex ga-3 flex-wrap align-start mb-3" @submit.prevent="addKey">
      <v-text-field id="key-name" v-model="called" label="What the key is called" max-width="260" />
      <v-text-field id="own-password" v-model="own" label="Your password" type="password" autocomplete="current-password" max-width="260" />
      <v-text-field v-if="has" id="own-code" v-model="code" label="Code" hint="Of the one you have" persistent-hint max-width="200" />
      <v-btn id="add-key" type="submit" variant="outlined" :disabled="!own || !called">Touch it</v-btn>
    </form>
    <div v-else class="d-flex ga-3 flex-wrap">
      <v-btn v-if="!has" id="begin-own" variant="outlined" size="small" @click="begin">Set up codes</v-btn>
      <v-btn id="begin-key" variant="outlined" size="small" :disabled="!usable" @click="adding = true">Add a security key</v-btn>
      <small v-if="!usable"
        >Security keys are bound to a name: open the console as https://NAME, or as http://localhost on its machine.</small
      >
    </div>
  </v-card>
</template>

<style scoped>
.full {
  flex: 1 0 100%;
}
code {
  overflow-wrap: anywhere;
}
</style>
