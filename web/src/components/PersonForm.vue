<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { api, words, type Schemas } from '../api'
import FactorsPanel from './FactorsPanel.vue'
import KeysPanel from './KeysPanel.vue'
import SharedKeysPanel from './SharedKeysPanel.vue'

type User = Schemas['PeopleUser']
const props = defineProps<{ user?: User; groups: string[]; wanted?: string }>()
const emit = defineEmits<{ saved: [words: string, password: string, user: string]; cancel: [] }>()

const known = ref<Schemas['PeopleKnown']>({ groups: [], hours: [], tunnels: [] })
const problem = ref('')
const link = ref<Schemas['Choice']>()
const form = reactive({
  name: props.user?.name ?? '',
  full: props.user?.['full-name'] ?? '',
  mail: props.user?.mail ?? '',
  groups: [...(props.user?.groups ?? (props.wanted ? [props.wanted] : []))],
  until: dayOf(props.user?.until),
  hours: props.user?.hours ?? '',
  sessions: props.user?.sessions ?? 0,
  tunnels: [...(props.user?.tunnels ?? [])],
  make: !props.user,
  keep: false,
  password: '',
})
const more = ref(Boolean(form.until || form.hours || form.sessions || form.tunnels.length))
const items = computed(() => [...new Set([...known.value.groups, ...props.groups])].sort())

onMounted(async () => {
  const { data } = await api.GET('/api/v1/users-words')
  if (data) known.value = data
})

/** The last whole day of a time that ends with a day, which is how it is chosen; other times lose nothing but their hour. */
function dayOf(until?: string) {
  return until ? new Date(new Date(until).getTime() - 1).toISOString().slice(0, 10) : ''
}

/** The moment at which the chosen day is over. */
function until() {
  if (!form.until) return undefined
  if (form.until === dayOf(props.user?.until)) return props.user?.until
  return new Date(new Date(`${form.until}T00:00:00Z`).getTime() + 86_400_000).toISOString()
}

async function save() {
  problem.value = ''
  const body = {
    name: form.name,
    'full-name': form.full,
    mail: form.mail,
    groups: form.groups,
    off: props.user?.off,
    until: until(),
    hours: form.hours ?? '',
    sessions: Number(form.sessions) || 0,
    tunnels: form.tunnels,
  }
  if (!props.user) {
    const { data, error } = await api.POST('/api/v1/users', { body: { ...body, password: form.make ? '' : form.password } })
    if (error) return void (problem.value = words(error))
    return emit('saved', `${form.name} is added.`, data?.password ?? '', form.name)
  }
  const { error } = await api.PUT('/api/v1/users/{name}', { params: { path: { name: form.name } }, body })
  if (error) return void (problem.value = words(error))
  if (!form.make && !form.password) return emit('saved', `${form.name} is changed.`, '', form.name)
  const { data, error: refused } = await api.PUT('/api/v1/users/{name}/password', {
    params: { path: { name: form.name } },
    body: { ...(form.make ? {} : { password: form.password }), 'keep-sessions': form.keep },
  })
  if (refused) return void (problem.value = words(refused))
  emit('saved', `${form.name} is changed, with a new password.`, data?.password ?? '', form.name)
}

async function makeLink() {
  const { data, error } = await api.POST('/api/v1/users/{name}/password-links', { params: { path: { name: form.name } }, body: {} })
  problem.value = error ? words(error) : ''
  link.value = data
}
const shown = computed(() => (link.value?.url.startsWith('/') ? location.origin + link.value.url : (link.value?.url ?? '')))
</script>

<template>
  <v-card class="pa-4 mb-3">
    <v-alert v-if="problem" type="error" variant="tonal" class="mb-3" role="alert">{{ problem }}</v-alert>
    <form @submit.prevent="save">
      <div class="fields">
        <v-text-field id="user" v-model="form.name" label="User" :disabled="Boolean(user)" hint="What they log in with" persistent-hint />
        <v-text-field id="full-name" v-model="form.full" label="Name" />
        <v-text-field id="mail" v-model="form.mail" label="Mail" type="email" />
        <!-- Enter takes the group that was typed; the form is not sent by it. -->
        <div @keydown.enter.capture.prevent @keypress.enter.capture.prevent>
          <v-combobox
            id="groups"
            v-model="form.groups"
            :items="items"
            label="Groups"
            multiple
            chips
            closable-chips
            density="compact"
            variant="outlined"
          />
        </div>
        <v-text-field
          v-if="!form.make"
          id="user-password"
          v-model="form.password"
          type="password"
          autocomplete="new-password"
          :label="user ? 'New password' : 'Password'"
          :hint="user ? 'Empty: it stays' : 'At least 12 characters'"
          persistent-hint
        />
        <v-checkbox
          id="make-password"
          v-model="form.make"
          :label="user ? 'Make a new password' : 'Make the first password'"
          hint="Shown once; counts until they choose another"
          persistent-hint
          density="compact"
        />
        <v-checkbox
          v-if="user && (form.make || form.password)"
          id="keep-sessions"
          v-model="form.keep"
          label="Keep live sessions"
          hint="If not, sessions from before the new password end"
          persistent-hint
          density="compact"
        />
      </div>
      <v-btn id="own-limits" size="small" variant="text" class="mb-2" :aria-expanded="more" @click="more = !more">
        {{ more ? 'Fewer fields' : 'Limits of their own' }}
      </v-btn>
      <div v-if="more" class="fields">
        <v-text-field
          id="until"
          v-model="form.until"
          type="date"
          label="Until the end of"
          hint="Empty: without end"
          persistent-hint
          clearable
        />
        <v-select
          id="hours"
          v-model="form.hours"
          :items="known.hours"
          label="Hours"
          hint="Empty: as their passage says"
          persistent-hint
          clearable
          density="compact"
          variant="outlined"
        />
        <v-text-field
          id="sessions"
          v-model="form.sessions"
          type="number"
          min="0"
          max="1000"
          label="Sessions at once"
          hint="0: as their passage says"
          persistent-hint
        />
        <v-select
          id="tunnels"
          v-model="form.tunnels"
          :items="known.tunnels"
          label="Tunnels"
          hint="None: those of their passage"
          persistent-hint
          multiple
          chips
          density="compact"
          variant="outlined"
        />
      </div>
      <div class="d-flex ga-3 mt-2 align-center">
        <v-btn id="save-user" type="submit" color="primary">Save</v-btn>
        <v-btn variant="text" @click="emit('cancel')">Cancel</v-btn>
        <v-spacer />
        <v-btn v-if="user" id="password-link" variant="outlined" size="small" @click="makeLink">Link to choose a password</v-btn>
      </div>
    </form>
    <v-alert v-if="link" id="choice" type="info" variant="tonal" class="mt-3" density="compact">
      Shown once, counts once, until {{ new Date(link.expires).toLocaleString() }}:<br /><code>{{ shown }}</code>
    </v-alert>
    <template v-if="user">
      <KeysPanel :user="user.name" />
      <SharedKeysPanel :user="user.name" />
      <FactorsPanel :user="user.name" />
    </template>
  </v-card>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
  gap: 8px 12px;
  align-items: start;
}
code {
  word-break: break-all;
}
</style>
