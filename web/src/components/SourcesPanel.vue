<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, words, type Schemas } from '../api'
import { draftName, usePlan } from '../plan'

// A source is tried before anybody relies on it: its server, its certificate, the account, one person, and where that person would come in.
const plan = usePlan()
const names = computed(() => (plan.reading?.plan.sources ?? []).map((s) => s.name))
const name = ref('')
const user = ref('')
const password = ref('')
const busy = ref(false)
const problem = ref('')
const tried = ref<Schemas['SourceTrial'] | null>(null)
const chosen = computed(() => name.value || names.value[0] || '')

async function tryIt() {
  busy.value = true
  tried.value = null
  const { data, error } = await api.POST('/api/v1/sources/{name}/trial', {
    params: { path: { name: chosen.value }, query: { draft: draftName } },
    body: { user: user.value, password: password.value },
  })
  busy.value = false
  password.value = ''
  problem.value = error ? words(error) : ''
  tried.value = data ?? null
}
const ms = (ns: number) => `${(ns / 1e6).toFixed(1)} ms`
</script>

<template>
  <section v-if="names.length" id="try-source" aria-label="Try a source">
    <h3>try a source</h3>
    <p class="hint">As it stands in this draft. Nobody logs in, and the password is not kept.</p>
    <form class="d-flex flex-wrap ga-3 align-center my-2" @submit.prevent="tryIt">
      <v-select
        v-if="names.length > 1"
        v-model="name"
        :items="names"
        :placeholder="names[0]"
        label="Source"
        density="compact"
        variant="outlined"
        hide-details
        max-width="200"
      />
      <v-text-field id="source-user" v-model="user" label="Whom to look for" density="compact" hide-details max-width="240" />
      <v-text-field
        id="source-password"
        v-model="password"
        type="password"
        autocomplete="off"
        label="Password, to try the login too"
        density="compact"
        hide-details
        max-width="300"
      />
      <v-btn id="source-try" type="submit" color="primary" :loading="busy" :disabled="!user">Try it</v-btn>
    </form>
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" class="my-2" role="alert">{{ problem }}</v-alert>
    <div v-if="tried" id="source-tried" role="status">
      <ol class="steps">
        <li v-for="(s, i) in tried.steps" :key="i" :class="s.ok ? '' : 'text-bad'">
          {{ s.ok ? '✓' : '✗' }} {{ s.words }} <span class="hint">({{ ms(s['took-ns']) }})</span>
        </li>
      </ol>
      <p v-if="tried.there.length">Their groups there: {{ tried.there.join(', ') }}</p>
      <p :class="tried.ok ? '' : 'text-bad'">
        <b>{{ tried.ok ? '✓' : '✗' }} {{ tried.words }}</b>
        <template v-if="tried.fix"><br />→ {{ tried.fix }}</template>
      </p>
    </div>
  </section>
</template>

<style scoped>
.steps {
  list-style: none;
  padding: 0;
}
.steps li {
  word-break: break-word;
}
</style>
