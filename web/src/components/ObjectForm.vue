<script setup lang="ts">
import { mdiArrowLeft } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { api, words, type Schemas } from '../api'
import { sure } from '../ask'
import { reachWords } from '../states'
import { usePlan } from '../plan'
import { pruned, type PlanObject } from '../steps'
import FieldInput from './FieldInput.vue'
import FindingCard from './FindingCard.vue'
import WhyNotes from './WhyNotes.vue'

// An object that is in the draft is changed there with every field that is settled; a new one is put there when it is added.
const props = defineProps<{ kind: string; name?: string; inDialog?: boolean }>()
const emit = defineEmits<{ close: []; added: [string] }>()
const plan = usePlan()
const value = ref<PlanObject>({ name: '' })
const problem = ref('')
const more = ref(false)
const made = ref<{ kind: string; then: (name: string) => void }>()
const newName = ref('')
const depends = ref<Schemas['Depends']>()

const form = computed(() => plan.forms.find((f) => f.kind === props.kind))
const stored = computed(() =>
  (plan.reading?.plan as unknown as Record<string, PlanObject[] | undefined>)?.[props.kind]?.find((o) => o.name === props.name),
)
const settled = computed(
  () =>
    (props.kind === 'passages' ? plan.reading?.settled.find((o) => o.name === props.name) : undefined) as
      Record<string, unknown> | undefined,
)
const path = computed(() => `${props.kind}/${props.name ?? value.value.name}`)
const findings = computed(() =>
  props.name ? (plan.checked?.findings ?? []).filter((f) => f.path === path.value || f.path.startsWith(path.value + '/')) : [],
)
const shown = computed(() =>
  (form.value?.fields ?? []).filter((f) => f.name !== 'name' && ours(f) && (more.value || f.required || f.usual || has(f.name))),
)
const hidden = computed(() => (form.value?.fields ?? []).filter((f) => f.name !== 'name' && ours(f)).length - shown.value.length)

/** Whether a field is one of the object's: tunnels have those of their kind. */
function ours(f: Schemas['PlanField']) {
  return !f.of?.length || f.of.includes(String(value.value.kind ?? ''))
}

function has(name: string) {
  return value.value[name] !== undefined || Object.keys(plan.reading?.taken ?? {}).some((p) => p.startsWith(`${path.value}/${name}`))
}

watch(
  stored,
  (o) => {
    if (o) value.value = JSON.parse(JSON.stringify(o)) as PlanObject
    newName.value = o?.name ?? ''
    depends.value = undefined
  },
  { immediate: true },
)

async function change(name: string, v: unknown) {
  value.value = { ...value.value, [name]: v }
  if (props.name) await put()
}

async function put(): Promise<boolean> {
  problem.value = await plan.edit([{ op: 'put', path: path.value, value: JSON.stringify(pruned(value.value)) }])
  return !problem.value
}

async function add() {
  if (!value.value.name) {
    problem.value = 'Give it a name first.'
    return
  }
  if (plan.names(props.kind).includes(value.value.name)) {
    problem.value = `There is a ${value.value.name} already.`
    return
  }
  if (await put()) emit('added', value.value.name)
}

async function rename() {
  const to = newName.value
  if (!props.name || to === props.name) return
  problem.value = await plan.edit([{ op: 'rename', path: path.value, value: to }])
  if (!problem.value) emit('added', to)
}

async function remove() {
  const { data } = await api.POST('/api/v1/uses', { body: { text: plan.text, object: path.value } })
  const uses = data ?? []
  const question = uses.length
    ? `${uses.slice(0, 6).join(', ')}${uses.length > 6 ? ' and more' : ''} would name what is no longer there. Remove ${props.name} all the same?`
    : `Remove ${props.name}? Nothing names it.`
  if (!(await sure(question, 'Remove'))) return
  problem.value = await plan.edit([{ op: 'remove', path: path.value }])
  if (!problem.value) emit('close')
}

async function move(by: number) {
  const names = plan.names(props.kind)
  const at = names.indexOf(props.name ?? '')
  const before = by < 0 ? names[at - 1] : (names[at + 2] ?? '')
  problem.value = await plan.edit([{ op: 'move', path: path.value, value: before }])
}

/** Asks what would be without this object. */
async function ask() {
  const { data, error } = await api.POST('/api/v1/depends', { body: { text: plan.text, setting: path.value } })
  problem.value = error ? words(error) : ''
  depends.value = data
}

const place = computed(() => plan.names(props.kind).indexOf(props.name ?? ''))

function useMade(name: string) {
  made.value?.then(name)
  made.value = undefined
}
</script>

<template>
  <section class="form" :aria-label="`${kind}: ${name ?? 'new'}`">
    <div class="d-flex align-center ga-2 mb-2">
      <v-btn v-if="!inDialog" :icon="mdiArrowLeft" size="small" variant="text" aria-label="Back to the list" @click="emit('close')" />
      <h2>
        {{ name ? name : 'New' }} <small>{{ name ? kind : form?.one }}</small>
      </h2>
      <v-spacer />
      <template v-if="name && form?.order">
        <v-btn size="small" variant="text" :disabled="place === 0" @click="move(-1)">Earlier</v-btn>
        <v-btn size="small" variant="text" :disabled="place === plan.names(kind).length - 1" @click="move(1)">Later</v-btn>
      </template>
      <v-btn v-if="name && form?.reach" id="depends" size="small" variant="text" @click="ask">What depends on it?</v-btn>
      <v-btn v-if="name" size="small" variant="text" color="bad" @click="remove">Remove</v-btn>
    </div>
    <article v-if="depends" id="dependence" class="depends">
      <b>Without it{{ depends.hours ? ', within its hours' : '' }}:</b>
      {{ depends.reach.length + depends.fails.length ? '' : 'nobody would gain or lose reach, and no expectation would fail.' }}
      <p v-for="r in depends.reach" :key="r.class">
        <b>{{ r.class }}</b> <span v-for="(l, i) in r.loses" :key="'l' + i" class="text-bad"> − {{ reachWords(l) }}</span
        ><span v-for="(l, i) in r.gains" :key="'g' + i" class="text-good"> + {{ reachWords(l) }}</span>
      </p>
      <p v-for="f in depends.fails" :key="f.expectation + f.class">
        <b>✗ {{ f.expectation }}</b> would fail for {{ f.class }}
      </p>
    </article>
    <v-alert v-if="problem" type="error" variant="tonal" density="compact" class="mb-2" role="alert">{{ problem }}</v-alert>
    <FindingCard v-for="f in findings" :key="f.code + f.path" :finding="f" @refused="(w) => (problem = w)" />
    <WhyNotes v-if="name" :about="(p) => p === path || p.startsWith(path + '/')" />
    <div class="d-flex ga-2 mb-4">
      <v-text-field v-if="name" id="field-name" v-model="newName" label="name" hide-details @change="rename" />
      <v-text-field
        v-else
        id="field-name"
        v-model="value.name"
        label="name"
        hint="Lower-case letters, digits, dots, underscores and hyphens."
        persistent-hint
      />
    </div>
    <FieldInput
      v-for="f in shown"
      :key="f.name"
      :field="f"
      :value="value[f.name]"
      :path="`${path}/${f.name}`"
      :taken="plan.reading?.taken"
      :settled="settled?.[f.name]"
      @change="(v) => change(f.name, v)"
      @make="(k, then) => (made = { kind: k, then })"
    />
    <v-btn v-if="hidden > 0" id="more" size="small" variant="text" @click="more = true"
      >{{ hidden }} more {{ hidden === 1 ? 'setting' : 'settings' }}</v-btn
    >
    <div v-if="!name" class="mt-2 d-flex ga-2">
      <v-btn id="add-object" color="primary" @click="add">Add to the draft</v-btn>
      <v-btn variant="text" @click="emit('close')">Cancel</v-btn>
    </div>
    <v-dialog v-if="made" :model-value="true" max-width="560" scrollable @update:model-value="made = undefined">
      <v-card class="pa-4"
        ><v-card-text><ObjectForm :kind="made.kind" in-dialog @added="useMade" @close="made = undefined" /></v-card-text
      ></v-card>
    </v-dialog>
  </section>
</template>

<style scoped>
h2 {
  font-size: 17px;
}
h2 small {
  font-weight: 400;
  color: rgb(var(--v-theme-quiet));
}
.depends {
  font-size: 12.5px;
  padding: 4px 8px;
  margin-bottom: 10px;
  border-left: 4px solid rgba(128, 140, 160, 0.5);
}
.depends p {
  margin: 0;
}
</style>
