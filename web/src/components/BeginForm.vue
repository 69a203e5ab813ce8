<script setup lang="ts">
import { reactive, ref } from 'vue'
import { api, words, type Schemas } from '../api'
import { readForm, type Form } from '../begin'

const emit = defineEmits<{ begun: [string] }>()
const form = reactive<Form>({ site: '', dial: '', outside: '', networks: '', groups: '', dns: '', full: false, devices: [] })
const problem = ref('')
const reasons = ref<Schemas['BeginReason'][]>([])

async function begin() {
  const { answers, problem: wrong } = readForm(form)
  problem.value = wrong ?? ''
  if (!answers) return
  const { data, error } = await api.POST('/api/v1/begin', { body: answers })
  if (error) {
    problem.value = words(error)
    return
  }
  const { data: certificates } = await api.GET('/api/v1/certificates')
  if (!certificates?.some((c) => c.name === 'gate')) {
    const made = await api.POST('/api/v1/certificates/{name}', { params: { path: { name: 'gate' } }, body: { for: [answers.dial] } })
    if (made.error) problem.value = words(made.error)
  }
  reasons.value = data.reasons
  emit('begun', data.text)
}
</script>

<template>
  <v-card class="pa-4 mb-3 flex-shrink-0" max-width="980">
    <h2 class="mb-1">Begin with six answers</h2>
    <p class="text-medium-emphasis mb-3">
      Everything else is proposed, each choice with its reason, as an ordinary draft that you can read and change.
    </p>
    <form v-if="!reasons.length" class="d-flex flex-column ga-3" @submit.prevent="begin">
      <v-text-field id="site" v-model="form.site" label="What is the site called?" />
      <div class="d-flex ga-4">
        <v-text-field
          id="dial"
          v-model="form.dial"
          label="1. What do people dial?"
          hint="A public name, such as gate.tern.example, or an address"
          persistent-hint
        />
        <v-text-field id="outside" v-model="form.outside" label="Public address of the gateway" hint="Such as 192.0.2.10" persistent-hint />
      </div>
      <v-textarea
        id="networks"
        v-model="form.networks"
        label="2. Which inside networks are there?"
        rows="2"
        variant="outlined"
        density="compact"
        hint="One a line: office=10.20.0.0/24, or lab=10.20.30.0/24@10.20.0.2 if it lies behind the router 10.20.0.2. The gateway is on the first."
        persistent-hint
      />
      <v-textarea
        id="groups"
        v-model="form.groups"
        label="3. Who may reach what?"
        rows="2"
        variant="outlined"
        density="compact"
        hint="One a line: staff=office+lab:tcp/443+ping"
        persistent-hint
      />
      <v-select
        id="devices"
        v-model="form.devices"
        :items="['windows', 'apple', 'android', 'own-client']"
        label="4. What do people connect with?"
        multiple
        chips
        variant="outlined"
        density="compact"
        hint="The tunnel is made such that each can use it; leave it empty if it is not known yet"
        persistent-hint
      />
      <v-text-field
        id="dns"
        v-model="form.dns"
        label="5. Inside name servers"
        hint="Such as 10.20.0.53; empty if there are none"
        persistent-hint
      />
      <v-checkbox
        id="full"
        v-model="form.full"
        density="compact"
        hide-details
        label="6. All traffic of people's devices goes through the tunnel, the internet's too"
      />
      <v-alert v-if="problem" type="error" variant="tonal" density="compact" role="alert">{{ problem }}</v-alert>
      <div><v-btn id="begin" type="submit" color="primary">Propose a plan</v-btn></div>
    </form>
    <table v-else id="reasons" class="plain">
      <tbody>
        <tr v-for="r in reasons" :key="r.path">
          <td class="mono">{{ r.path }}</td>
          <td>{{ r.why }}</td>
        </tr>
      </tbody>
    </table>
  </v-card>
</template>
