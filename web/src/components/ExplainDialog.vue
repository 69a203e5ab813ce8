<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, words, type Schemas } from '../api'

const name = defineModel<string>({ required: true })
const problem = ref('')
const found = ref<Schemas['ExplainedPerson']>()

watch(
  name,
  async (asked) => {
    found.value = undefined
    problem.value = ''
    if (!asked) return
    const { data, error } = await api.GET('/api/v1/people/{name}/explanation', { params: { path: { name: asked } } })
    if (asked !== name.value) return
    found.value = data
    problem.value = error ? words(error) : ''
  },
  { immediate: true },
)
const at = (t: string) => new Date(t).toLocaleString()
</script>

<template>
  <v-dialog :model-value="Boolean(name)" max-width="820" scrollable @update:model-value="name = ''">
    <v-card id="explained" :title="found?.['full-name'] ? `${name} · ${found['full-name']}` : name">
      <v-card-text>
        <v-alert v-if="problem" type="error" variant="tonal" density="compact" role="alert">{{ problem }}</v-alert>
        <template v-if="found">
          <v-alert
            v-for="a in found.against"
            :key="a.words"
            :type="a.stops ? 'error' : 'warning'"
            variant="tonal"
            density="compact"
            class="mb-2"
          >
            <span class="told"
              >{{ a.words }}<template v-if="a.fix"><br />→ {{ a.fix }}</template></span
            >
          </v-alert>
          <p v-if="!found.against.some((a) => a.stops)"><b>✓ Nothing keeps them out.</b></p>
          <h3>kept in</h3>
          <ul>
            <li v-for="l in found.looked" :key="l.source">{{ l.found ? '✓' : '·' }} {{ l.source }}: {{ l.words }}</li>
          </ul>
          <h3>passage</h3>
          <p>groups: {{ found.groups.join(', ') || 'none' }}</p>
          <ul>
            <li v-for="c in found.passages" :key="c.name">{{ c.takes ? '✓' : '·' }} {{ c.name }}: {{ c.words }}</li>
          </ul>
          <template v-if="found.reaches.length">
            <h3>reaches</h3>
            <v-table density="compact">
              <tbody>
                <tr v-for="r in found.reaches" :key="r.to">
                  <td>
                    <b>{{ r.to }}</b>
                  </td>
                  <td>
                    {{ r.services || 'none' }} <small v-if="r.passes" class="text-quiet">lets through {{ r.passes }}</small>
                  </td>
                </tr>
              </tbody>
            </v-table>
          </template>
          <h3>comes by</h3>
          <p>{{ found.devices.join(', ') || 'a password' }} · {{ found.sessions }} sessions now</p>
          <ul>
            <li v-for="l in found.logins" :key="l.at + l.words">{{ l.ok ? '✓' : '✗' }} {{ at(l.at) }}: {{ l.words }}</li>
          </ul>
        </template>
      </v-card-text>
      <v-card-actions><v-spacer /><v-btn @click="name = ''">Close</v-btn></v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
}
h3 {
  font-size: 14px;
  margin: 12px 0 4px;
}
.told {
  color: rgb(var(--v-theme-on-surface));
}
</style>
