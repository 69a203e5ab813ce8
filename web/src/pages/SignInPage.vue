<script setup lang="ts">
import { onMounted, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, codeOf, words } from '../api'
import * as key from '../securitykey'
import { useSession } from '../session'

const router = useRouter()
const session = useSession()
const first = ref(false)
const name = ref('admin')
const password = ref('')
const code = ref('')
const wrong = ref('')
const busy = ref(false)

onMounted(async () => {
  const { data } = await api.GET('/api/v1/start')
  first.value = data?.['needs-administrator'] ?? false
})

/** Seconds until the next try is heard. */
const wait = ref(0)
const clock = setInterval(() => (wait.value = Math.max(0, wait.value - 1)), 1000)
onUnmounted(() => clearInterval(clock))

/** A second factor is asked for; and the password was made by somebody else, and counts only to choose another with. */
const coded = ref(false)
const usable = key.usable()
const factor = ref('')
const choosing = ref(false)
const own = ref('')

async function choose() {
  const { error } = await api.PUT('/api/v1/me/password', {
    body: { password: password.value, new: own.value, code: factor.value || undefined },
  })
  busy.value = false
  if (error) return void (wrong.value = words(error))
  session.name = name.value
  await router.push('/')
}

/** Signs in by a security key in place of a code. */
async function byKey() {
  wrong.value = ''
  const body = { name: name.value, password: password.value }
  const { data, error } = await api.POST('/api/v1/sign-in/security-key', { body })
  if (!data) return void (wrong.value = words(error))
  try {
    await enter(await key.touch(data.options))
  } catch (e) {
    wrong.value = key.failed(e)
  }
}

async function enter(answer?: string) {
  busy.value = true
  wrong.value = ''
  const body = { name: name.value, password: password.value }
  if (choosing.value) return choose()
  const { data, error, response } = first.value
    ? await api.POST('/api/v1/start', { body: { ...body, code: code.value } })
    : await api.POST('/api/v1/sign-in', { body: { ...body, code: factor.value || undefined, key: answer } })
  busy.value = false
  if (error) {
    if (codeOf(error) === 'code-wanted' && !coded.value) coded.value = true
    else wrong.value = words(error)
    wait.value = Number(response.headers.get('Retry-After') ?? 0)
    return
  }
  if (data?.['must-change']) return void (choosing.value = true)
  session.name = data?.name ?? ''
  await router.push('/')
}
</script>

<template>
  <div class="page">
    <v-card class="pa-8" width="420">
      <div class="d-flex align-center ga-3 mb-2">
        <img src="/lantern.svg" alt="" width="40" height="40" />
        <h1>Yellow Lantern</h1>
      </div>
      <p class="text-medium-emphasis mb-6">
        {{
          first
            ? 'First start: name the administrator. There is no default password.'
            : 'Who reaches what behind your gateway, proved and tried.'
        }}
      </p>
      <form class="d-flex flex-column ga-4" @submit.prevent="enter()">
        <v-text-field
          v-if="first"
          id="code"
          v-model="code"
          label="Setup code"
          hint="The service printed it when it started."
          persistent-hint
        />
        <v-text-field id="name" v-model="name" label="Administrator" autocomplete="username" />
        <v-text-field
          id="password"
          v-model="password"
          label="Password"
          type="password"
          :autocomplete="first ? 'new-password' : 'current-password'"
          autofocus
          :hint="first ? 'At least 12 characters.' : ''"
        />
        <v-text-field
          v-if="coded"
          id="factor"
          v-model="factor"
          label="Code of your second factor"
          inputmode="numeric"
          autocomplete="one-time-code"
          hint="Six digits, or a recovery code"
          persistent-hint
          autofocus
        />
        <v-btn v-if="coded && usable" id="by-key" variant="outlined" @click="byKey">Use a security key</v-btn>
        <v-text-field
          v-if="choosing"
          id="own-password"
          v-model="own"
          label="A password of your own"
          type="password"
          autocomplete="new-password"
          hint="The other one was made for you, and counts no more then. At least 12 characters"
          persistent-hint
          autofocus
        />
        <v-alert v-if="wrong" type="error" variant="tonal" density="compact" role="alert">{{ wrong }}</v-alert>
        <v-btn id="enter" type="submit" color="primary" size="large" :loading="busy" :disabled="wait > 0">
          {{ wait > 0 ? `Again in ${wait} s` : first ? 'Begin' : 'Sign in' }}
        </v-btn>
      </form>
    </v-card>
  </div>
</template>

<style scoped>
.page {
  min-height: 100vh;
  display: grid;
  place-items: center;
}
</style>
