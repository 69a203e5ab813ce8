<script setup lang="ts">
import { onMounted, reactive, ref } from 'vue'
import { api, codeOf, words, type Schemas } from '../api'
import { askFor, sure } from '../ask'
import { usePlan } from '../plan'

const plan = usePlan()
const certificates = ref<Schemas['Certificate'][]>([])
const secrets = ref<Schemas['SharedSecret'][]>([])
const problem = ref('')
const done = ref('')
const shown = ref('')
const form = reactive({ what: 'make', name: '', for: [] as string[], chain: '', key: '' })

async function load() {
  const [c, s] = await Promise.all([api.GET('/api/v1/certificates'), api.GET('/api/v1/secrets')])
  certificates.value = c.data ?? []
  secrets.value = s.data ?? []
}
onMounted(async () => {
  await load()
  form.for = (plan.reading?.plan.gateways ?? []).map((g) => g.dial)
  form.name = plan.reading?.plan.tunnels?.[0]?.certificate ?? 'gate'
})

async function say(error: unknown, what: string) {
  problem.value = error ? words(error) : ''
  done.value = error ? '' : what
  await load()
  await plan.look()
}

/** Puts a certificate in the place of another: asks first where that keeps people out. */
async function inPlace(put: (replace: boolean) => Promise<{ error?: unknown }>) {
  const { error } = await put(false)
  if (codeOf(error) !== 'would-keep-out' || !(await sure(words(error), 'Replace it all the same'))) return error
  return (await put(true)).error
}

async function go() {
  shown.value = ''
  const params = { path: { name: form.name } }
  if (form.what === 'make') {
    const make = (replace: boolean) =>
      api.POST('/api/v1/certificates/{name}', { params: { ...params, query: { replace } }, body: { for: form.for } })
    const error = await inPlace(make)
    return say(error, `${form.name} is made; the gateway shows it at once if a tunnel names it.`)
  }
  if (form.what === 'request') {
    const { data, error } = await api.POST('/api/v1/certificates/{name}/request', { params, body: { for: form.for } })
    shown.value = data?.pem ?? ''
    return say(error, 'Have this signed, then import the certificate under the same name. The key stays here.')
  }
  const keep = (replace: boolean) =>
    api.PUT('/api/v1/certificates/{name}', {
      params: { ...params, query: { replace } },
      body: { chain: form.chain, key: form.key || undefined },
    })
  const error = await inPlace(keep)
  if (!error) form.chain = form.key = ''
  return say(error, `${form.name} is kept.`)
}

async function revoke(name: string) {
  const reason = await askFor(`${name} will be shown to nobody from now on, and stands on the revocation list. Why?`, 'Revoke', 'Reason')
  if (!reason) return
  const { error } = await api.POST('/api/v1/certificates/{name}/revoke', { params: { path: { name } }, body: { reason } })
  await say(error, `${name} is on the revocation list.`)
}

async function remove(name: string) {
  if (!(await sure(`Forget ${name} and its key?`, 'Forget'))) return
  const { error } = await api.DELETE('/api/v1/certificates/{name}', { params: { path: { name } } })
  await say(error, `${name} is gone.`)
}

async function secret() {
  const name = await askFor('What is the new secret called? The plan names it.', 'Make', 'Name')
  if (!name) return
  const { data, error } = await api.POST('/api/v1/secrets/{name}', { params: { path: { name } }, body: { kind: 'tsig' } })
  shown.value = data?.value ?? ''
  await say(error, 'The secret is shown this once: put it into the name server now.')
}

async function download(call: '/api/v1/authority' | '/api/v1/authority/revoked', file: string) {
  const { data, error } = await api.GET(call)
  if (!data) return say(error, '')
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([data.pem], { type: 'application/x-pem-file' }))
  link.download = file
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <div>
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" class="my-2" role="alert">{{ problem }}</v-alert>
    <v-alert v-if="done" type="success" variant="tonal" density="compact" class="my-2">{{ done }}</v-alert>
    <pre v-if="shown" class="mono shown">{{ shown }}</pre>
    <h3>certificates</h3>
    <table class="plain">
      <thead>
        <tr>
          <th>Name</th>
          <th>Holds</th>
          <th>Until</th>
          <th>Signed</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in certificates" :key="c.name">
          <td>
            <b>{{ c.name }}</b><br /><small>{{ c.used.length ? 'shown by ' + c.used.join(', ') : '' }}</small>
          </td>
          <td>{{ c.holds.join(', ') }}</td>
          <td>{{ c.expires ? new Date(c.expires).toLocaleDateString() : '–' }}</td>
          <td :class="{ 'text-bad': c.revoked }">
            {{
              c.revoked
                ? '✗ revoked'
                : c.waiting && !c.expires
                  ? '… asked for'
                  : c.name === 'authority'
                    ? 'the service’s own authority'
                    : c.own
                      ? 'here; renewed by itself'
                      : 'by ' + c.issuer
            }}
          </td>
          <td class="text-right">
            <v-btn v-if="c.own && !c.revoked && c.name !== 'authority'" size="x-small" variant="text" @click="revoke(c.name)">Revoke</v-btn>
            <v-btn v-if="c.name !== 'authority'" size="x-small" variant="text" @click="remove(c.name)">Remove</v-btn>
          </td>
        </tr>
      </tbody>
    </table>
    <div class="d-flex ga-2 my-2">
      <v-btn size="small" variant="outlined" @click="download('/api/v1/authority', 'authority.pem')">Authority’s certificate</v-btn>
      <v-btn size="small" variant="outlined" @click="download('/api/v1/authority/revoked', 'revoked.pem')">Revocation list</v-btn>
    </div>
    <form class="d-flex flex-column ga-2 mb-4" @submit.prevent="go">
      <v-btn-toggle v-model="form.what" density="compact" mandatory variant="outlined">
        <v-btn value="make" size="small">Make one here</v-btn><v-btn value="request" size="small">Have one signed elsewhere</v-btn
        ><v-btn value="import" size="small">Import</v-btn>
      </v-btn-toggle>
      <v-text-field v-model="form.name" label="Name, by which tunnels refer to it" />
      <v-combobox
        v-if="form.what !== 'import'"
        v-model="form.for"
        label="What people dial"
        multiple
        chips
        closable-chips
        variant="outlined"
        density="compact"
        hide-details
      />
      <template v-else>
        <v-textarea
          v-model="form.chain"
          label="Certificate and those above it, PEM"
          rows="3"
          variant="outlined"
          hide-details
          class="mono"
        />
        <v-textarea
          v-model="form.key"
          label="Private key, PEM (not needed after a signing request made here)"
          rows="2"
          variant="outlined"
          hide-details
          class="mono"
        />
      </template>
      <div>
        <v-btn type="submit" color="primary" size="small">{{
          form.what === 'make' ? 'Make it' : form.what === 'request' ? 'Make the request' : 'Keep it'
        }}</v-btn>
      </div>
    </form>
    <div class="d-flex align-center">
      <h3>
        shared secrets <small>{{ secrets.length }}</small>
      </h3>
      <v-spacer />
      <v-btn size="x-small" variant="outlined" @click="secret">generate one</v-btn>
    </div>
    <p v-for="s in secrets" :key="s.name" class="secret">
      <b>{{ s.name }}</b> {{ s.kind }}, since {{ new Date(s.made).toLocaleDateString() }}
    </p>
    <p v-if="!secrets.length" class="secret">Keys that both ends know, such as a name server’s. Each is shown once.</p>
  </div>
</template>

<style scoped>
h3 {
  font-size: 13.5px;
}
.secret {
  font-size: 12.5px;
  margin: 2px 0;
}
.shown {
  font-size: 11.5px;
  max-height: 160px;
  overflow: auto;
  padding: 6px;
  border: 1px solid rgba(128, 140, 160, 0.5);
  user-select: all;
}
</style>
