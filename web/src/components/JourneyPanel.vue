<script setup lang="ts">
import { mdiAlert, mdiArrowLeft, mdiArrowRight, mdiCheck, mdiClose } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { usePlan } from '../plan'
import { settingQuery } from '../steps'
import { api, words, type Cell, type Journey, type Try } from '../api'

const props = defineProps<{ who: string; people: string; destination: string; cell: Cell; tried?: Try }>()
const emit = defineEmits<{ close: [] }>()
const plan = usePlan()
const router = useRouter()
const leave = (e: KeyboardEvent) => e.key === 'Escape' && emit('close')
onMounted(() => document.addEventListener('keydown', leave))
onBeforeUnmount(() => document.removeEventListener('keydown', leave))
const journey = ref<Journey>()
const problem = ref('')
const service = ref('')

/** What becomes of the packet, seen from what is expected: a loss is as it must be where the destination must not be reached. */
const verdict = computed(() => {
  const j = journey.value
  if (!j) return undefined
  const barred = props.cell.expected === 'not'
  if (barred && j.enforced) return { color: 'bad', words: 'The gateway lets it through, and it must not.', fix: '' }
  const guard = j.steps.find((s) => !s.ok && s.enforced)
  if (barred && guard) return { color: 'good', words: `Kept out by the gateway, as it must be: ${guard.words}.`, fix: '' }
  if (j.arrives || j.answered) return { color: 'good', words: j.verdict, fix: '' }
  if (!props.cell.expected) return { color: 'quiet', words: j.verdict, fix: j.fix ? 'to let it through: ' + j.fix : '' }
  return { color: 'bad', words: j.verdict, fix: j.fix ?? '' }
})

/** Puts the fix into the console's draft, and goes there to look at it. */
async function apply() {
  const mend = journey.value?.mend ?? []
  if (!plan.loaded) await plan.load()
  problem.value = await plan.edit(mend)
  if (!problem.value) await router.push({ path: '/plan', query: settingQuery(mend[0].path) })
}

async function load() {
  const { data, error } = await api.GET('/api/v1/journey', {
    params: { query: { from: props.who, to: props.cell.dst, service: service.value } },
  })
  journey.value = data
  problem.value = error ? words(error) : ''
}

watch(
  () => [props.who, props.cell],
  () => {
    service.value = props.cell.service
    void load()
  },
  { immediate: true },
)
</script>

<template>
  <aside class="panel" aria-label="Journey">
    <div class="d-flex align-center mb-2">
      <h2 class="text-subtitle-1 font-weight-bold">{{ people }} → {{ destination }}</h2>
      <v-spacer />
      <v-btn :icon="mdiClose" size="small" variant="text" aria-label="Close" @click="emit('close')" />
    </div>
    <table class="facts">
      <tbody>
        <tr>
          <th>expected</th>
          <td>{{ cell.expected === 'not' ? 'must not be reached' : cell.expected || 'nothing is said' }}</td>
        </tr>
        <tr>
          <th>computed</th>
          <td class="mono">{{ cell.computed || 'no reach' }}</td>
        </tr>
        <tr v-if="cell.passes">
          <th>lets through</th>
          <td>
            <span class="mono">{{ cell.passes }}</span>
            <small class="text-quiet">not all of it arrives or is answered, or not at every hour</small>
          </td>
        </tr>
        <tr>
          <th>tried</th>
          <td>{{ tried?.words ?? 'not tried' }}</td>
        </tr>
        <tr v-if="tried?.['handed-in']">
          <th>handed in</th>
          <td class="text-quiet">{{ tried['handed-in'] }}. Nothing vouches for it, and it does not count as tried.</td>
        </tr>
      </tbody>
    </table>
    <form class="d-flex ga-2 my-3" @submit.prevent="load">
      <v-text-field v-model="service" label="Service" hint="tcp/443, udp/53, ping" />
      <v-btn type="submit" color="primary">Follow a packet</v-btn>
    </form>
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" role="alert">{{ problem }}</v-alert>
    <template v-if="journey">
      <p class="mono packet">{{ journey.packet }}</p>
      <ol>
        <li v-for="(s, i) in journey.steps" :key="i" :class="{ lost: !s.ok, back: s.back }">
          <v-icon :icon="s.ok ? mdiCheck : mdiAlert" :color="s.ok ? 'good' : 'bad'" size="18" />
          <div>
            <b>{{ s.station }}</b>
            <span class="way"
              ><v-icon :icon="s.back ? mdiArrowLeft : mdiArrowRight" size="13" /> {{ s.back ? 'the answer' : 'there'
              }}{{ s.enforced ? ' · enforced by the gateway' : '' }}</span
            >
            <p>{{ s.words }}</p>
            <p v-if="s.src" class="mono">{{ s.src }} → {{ s.dst }}</p>
            <router-link class="mono setting" :to="{ path: '/plan', query: settingQuery(s.setting) }">{{ s.setting }}</router-link>
          </div>
        </li>
      </ol>
      <v-alert v-if="verdict" :color="verdict.color" variant="tonal" density="compact" class="verdict">
        <b>{{ verdict.words }}</b>
        <p v-if="verdict.fix" class="mt-1">→ {{ verdict.fix }}</p>
        <v-btn v-if="verdict.fix && journey.mend?.length" size="small" color="primary" class="mt-1" @click="apply"
          >Apply this fix to a draft</v-btn
        >
      </v-alert>
      <div v-if="journey.live" class="live">
        <b>At the gateway now:</b> {{ journey.live }}
        <p v-for="(f, i) in journey.flows" :key="i" class="mono">
          {{ f.src }} → {{ f.dst }}<template v-if="f.leaves"> (leaves as {{ f.leaves }})</template>: {{ f.sent }} packets from them,
          {{ f.got }} to them <b v-if="f.words" class="text-bad">{{ f.words }}</b>
        </p>
      </div>
    </template>
  </aside>
</template>

<style scoped>
.panel {
  position: fixed;
  right: 0;
  top: 0;
  bottom: 0;
  width: 440px;
  overflow-y: auto;
  padding: 16px 18px;
  background: rgb(var(--v-theme-surface));
  border-left: 3px solid rgb(var(--v-theme-lantern));
  box-shadow: -8px 0 24px rgba(10, 20, 40, 0.25);
  z-index: 10;
  font-size: 13px;
}
.facts th {
  text-align: left;
  padding-right: 14px;
  color: rgb(var(--v-theme-quiet));
  vertical-align: top;
}
.facts td {
  overflow-wrap: anywhere;
}
.packet {
  margin: 8px 0;
}
ol {
  list-style: none;
  padding: 0;
  margin-bottom: 12px;
}
li {
  display: flex;
  gap: 10px;
  padding: 5px 8px;
  border-left: 2px solid rgba(128, 140, 160, 0.35);
}
li.lost {
  background: rgba(179, 38, 30, 0.1);
  border-color: rgb(var(--v-theme-bad));
}
li.back {
  margin-left: 18px;
}
li p {
  margin: 0;
  line-height: 1.35;
}
.way,
.setting,
li .mono {
  color: rgb(var(--v-theme-quiet));
  font-size: 11.5px;
}
.way {
  margin-left: 8px;
}
</style>
