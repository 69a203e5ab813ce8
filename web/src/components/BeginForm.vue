<script setup lang="ts">
import { mdiClose } from '@mdi/js'
import { computed, nextTick, reactive, ref } from 'vue'
import { api, words } from '../api'
import { emptyForm, emptyGroup, emptyNetwork, readForm, type Wrong } from '../begin'
import { usePlan } from '../plan'

const plan = usePlan()
const emit = defineEmits<{ begun: [string] }>()
const form = reactive(emptyForm())
const wrong = ref<Wrong>()
const problem = ref('')
const services = ['ping', 'tcp/443', 'tcp/80', 'tcp/22', 'tcp/3389', 'tcp/445', 'any']
const places = computed(() => form.networks.map((n) => n.name).filter(Boolean))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.problem : undefined)

async function begin() {
  problem.value = ''
  const read = readForm(form)
  wrong.value = read.wrong
  if (!read.answers) {
    await nextTick()
    document.getElementById(read.wrong?.field ?? '')?.focus()
    return
  }
  const { data, error } = await api.POST('/api/v1/begin', { body: read.answers })
  if (error) {
    problem.value = words(error)
    return
  }
  const { data: certificates } = await api.GET('/api/v1/certificates')
  if (!certificates?.some((c) => c.name === 'gate')) {
    const made = await api.POST('/api/v1/certificates/{name}', { params: { path: { name: 'gate' } }, body: { for: [read.answers.dial] } })
    if (made.error) problem.value = words(made.error)
  }
  plan.explain(data.reasons)
  emit('begun', data.text)
}
</script>

<template>
  <v-card class="pa-4 mb-3 flex-shrink-0" max-width="980">
    <h2 class="mb-1">Begin with a few answers</h2>
    <p class="text-medium-emphasis mb-3">
      Everything else is proposed as an ordinary draft that you can read and change; why each choice is as it is stands beside it.
    </p>
    <form class="d-flex flex-column ga-4" @submit.prevent>
      <div class="row">
        <v-text-field id="site" v-model="form.site" label="What is the site called?" :error-messages="at('site')" />
        <v-text-field
          id="dial"
          v-model="form.dial"
          label="What do people dial?"
          hint="A public name, such as gate.tern.example, or an address"
          persistent-hint
          :error-messages="at('dial')"
        />
        <v-text-field
          id="outside"
          v-model="form.outside"
          :label="form.front ? 'Own address towards the router in front' : 'Public address of the gateway'"
          :hint="form.front ? 'Such as 192.168.9.10' : 'Such as 192.0.2.10'"
          persistent-hint
          :error-messages="at('outside')"
        />
      </div>
      <div class="row">
        <v-checkbox id="front" v-model="form.front" density="compact" hide-details label="Another router is in front of the gateway" />
        <v-text-field
          v-if="form.front"
          id="front-address"
          v-model="form.frontAddress"
          label="Its public address"
          hint="It must forward UDP 500 and 4500 to the gateway"
          persistent-hint
          :error-messages="at('front-address')"
        />
      </div>
      <fieldset>
        <legend>Inside networks; the gateway is on the first</legend>
        <div v-for="(n, i) in form.networks" :key="i" class="row">
          <v-text-field :id="`network-${i}-name`" v-model="n.name" label="Name" :error-messages="at(`network-${i}-name`)" />
          <v-text-field
            :id="`network-${i}-prefix`"
            v-model="n.prefix"
            label="Addresses"
            placeholder="10.20.0.0/24"
            :error-messages="at(`network-${i}-prefix`)"
          />
          <v-text-field
            :id="`network-${i}-router`"
            v-model="n.router"
            :label="i ? 'Behind which router' : `The gateway's address there`"
            :placeholder="i ? '10.20.0.2' : '10.20.0.1'"
          />
          <v-btn
            :icon="mdiClose"
            size="small"
            variant="text"
            :disabled="form.networks.length === 1"
            :aria-label="`Take network ${i + 1} out`"
            @click="form.networks.splice(i, 1)"
          />
        </div>
        <v-btn id="more-networks" size="small" variant="outlined" @click="form.networks.push(emptyNetwork())">One more network</v-btn>
      </fieldset>
      <fieldset>
        <legend>Who may reach what</legend>
        <div v-for="(g, i) in form.groups" :key="i" class="row">
          <v-text-field :id="`group-${i}-name`" v-model="g.name" label="Group of people" :error-messages="at(`group-${i}-name`)" />
          <v-combobox
            :id="`group-${i}-reach`"
            v-model="g.reach"
            :items="places"
            label="may reach"
            multiple
            chips
            variant="outlined"
            density="compact"
            hide-details="auto"
            :error-messages="at(`group-${i}-reach`)"
          />
          <v-combobox
            :id="`group-${i}-services`"
            v-model="g.services"
            :items="services"
            label="by"
            multiple
            chips
            variant="outlined"
            density="compact"
            hide-details="auto"
            :error-messages="at(`group-${i}-services`)"
          />
          <v-btn
            :icon="mdiClose"
            size="small"
            variant="text"
            :disabled="form.groups.length === 1"
            :aria-label="`Take group ${i + 1} out`"
            @click="form.groups.splice(i, 1)"
          />
        </div>
        <v-btn id="more-groups" size="small" variant="outlined" @click="form.groups.push(emptyGroup())">One more group</v-btn>
      </fieldset>
      <div class="row">
        <v-select
          id="devices"
          v-model="form.devices"
          :items="['windows', 'apple', 'android', 'own-client']"
          label="What do people connect with?"
          multiple
          chips
          variant="outlined"
          density="compact"
          hint="The tunnel is made such that each can use it; leave it empty if it is not known yet"
          persistent-hint
        />
        <v-text-field
          id="people"
          v-model="form.people"
          label="How many people?"
          hint="200 if left empty"
          persistent-hint
          :error-messages="at('people')"
        />
      </div>
      <div class="row">
        <v-text-field
          id="dns"
          v-model="form.dns"
          label="Inside name servers"
          hint="Such as 10.20.0.53; empty if there are none"
          persistent-hint
        />
        <v-text-field
          id="search"
          v-model="form.search"
          label="Inside domain"
          hint="For short names, such as tern.example; empty if there is none"
          persistent-hint
        />
      </div>
      <v-checkbox
        id="full"
        v-model="form.full"
        density="compact"
        hide-details
        label="All traffic of people's devices goes through the tunnel, the internet's too"
      />
      <v-checkbox
        id="factor"
        v-model="form.factor"
        density="compact"
        hide-details
        label="People give a second factor too: a code of an app, on a page inside the tunnel"
      />
      <v-alert v-if="problem" type="error" variant="tonal" density="compact" role="alert">{{ problem }}</v-alert>
      <div><v-btn id="begin" color="primary" @click="begin">Propose a plan</v-btn></div>
    </form>
  </v-card>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: flex-start;
  margin-bottom: 8px;
}
.row > :not(button) {
  flex: 1 1 200px;
}
fieldset {
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
  padding: 12px;
}
legend {
  padding: 0 6px;
  font-size: 14px;
}
</style>
