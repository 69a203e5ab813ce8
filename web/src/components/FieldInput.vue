<script setup lang="ts">
import { mdiPlus, mdiTrashCanOutline } from '@mdi/js'
import { computed, ref } from 'vue'
import { usePlan } from '../plan'
import { summary, type Field } from '../steps'

// One field of a form, drawn by what the plan's types say of it. The value is handed up whole when it is settled: on leaving the field,
// or at once where it is chosen.
const props = defineProps<{ field: Field; value: unknown; path: string; taken?: Record<string, string>; settled?: unknown }>()
const emit = defineEmits<{ change: [unknown]; make: [string, (name: string) => void] }>()
const plan = usePlan()

const f = computed(() => props.field)
const choices = computed(() => f.value.choices ?? [])
const named = computed(() => [...new Set((f.value.refs ?? []).flatMap((k) => plan.names(k)))])
const items = computed(() => (choices.value.length ? choices.value : [...named.value, ...(f.value.words ?? [])]))
const origin = computed(() => props.taken?.[props.path])
const hint = computed(() => f.value.doc + (f.value.example ? ` Such as ${f.value.example}.` : ''))
const list = computed(() => (Array.isArray(props.value) ? props.value : []))
const id = computed(() => 'field-' + props.path.split('/').slice(2).join('-'))
// An object that may be left out is unfolded when it is wanted.
const unfolded = ref(false)
const folded = computed(
  () =>
    !f.value.required &&
    !unfolded.value &&
    !origin.value &&
    (props.value === undefined || props.value === null) &&
    !Object.keys(props.taken ?? {}).some((p) => p.startsWith(props.path + '/')),
)
const single = (kind: string) => plan.forms.find((x) => x.kind === kind)?.one ?? kind

function settle(v: unknown) {
  if (f.value.type === 'number' && v !== '' && v !== null) v = Number(v)
  if (v === '' || v === null) v = undefined
  if (JSON.stringify(v) !== JSON.stringify(props.value)) emit('change', v)
}

function settleList(v: string[]) {
  const words = v.flatMap((w) => (f.value.type === 'text' && !f.value.refs ? [w.trim()] : w.split(/[\s,]+/))).filter(Boolean)
  emit('change', words.length ? words : undefined)
}

function inner(i: number, name: string, v: unknown) {
  emit(
    'change',
    list.value.map((x, k) => (k === i ? { ...(x as object), [name]: v } : x)),
  )
}

function make(kind: string) {
  emit('make', kind, (name) => (f.value.list ? emit('change', [...list.value, name]) : emit('change', name)))
}
</script>

<template>
  <div class="field" :class="{ taken: origin }">
    <template v-if="f.type === 'switch'">
      <v-checkbox
        :id="id"
        :model-value="value === true"
        :label="f.name"
        density="compact"
        hide-details
        @update:model-value="(v) => emit('change', v ? true : undefined)"
      />
      <p class="hint below">
        {{ f.doc }} <em v-if="f.then">{{ f.then }}</em>
      </p>
    </template>
    <p v-else-if="f.type === 'object' && !f.list && folded" class="hint">
      <v-btn size="x-small" variant="outlined" :prepend-icon="mdiPlus" :aria-label="`Set ${f.name}`" @click="unfolded = true">{{
        f.name
      }}</v-btn>
      {{ f.doc }}
    </p>
    <fieldset v-else-if="f.type === 'object' && !f.list">
      <legend>
        {{ f.name }} <span v-if="origin" class="origin">from {{ origin }}: {{ summary(settled) }}</span>
      </legend>
      <p class="hint">{{ f.doc }}</p>
      <FieldInput
        v-for="x in f.fields"
        :key="x.name"
        :field="x"
        :value="(value as Record<string, unknown> | undefined)?.[x.name]"
        :path="`${path}/${x.name}`"
        :taken="taken"
        :settled="(settled as Record<string, unknown> | undefined)?.[x.name]"
        @change="(v) => emit('change', { ...((value as object) ?? {}), [x.name]: v })"
        @make="(k, then) => emit('make', k, then)"
      />
    </fieldset>
    <fieldset v-else-if="f.type === 'object'">
      <legend>{{ f.name }}</legend>
      <p class="hint">{{ f.doc }}</p>
      <div v-for="(item, i) in list" :key="i" class="item">
        <FieldInput
          v-for="x in f.fields"
          :key="x.name"
          :field="x"
          :value="(item as Record<string, unknown>)[x.name]"
          :path="`${path}/${i}/${x.name}`"
          @change="(v) => inner(i, x.name, v)"
          @make="(k, then) => emit('make', k, then)"
        />
        <v-btn
          :icon="mdiTrashCanOutline"
          size="x-small"
          variant="text"
          :aria-label="`Take out ${f.name} ${i + 1}`"
          @click="emit('change', list.length > 1 ? list.filter((_, k) => k !== i) : undefined)"
        />
      </div>
      <v-btn size="x-small" variant="outlined" :prepend-icon="mdiPlus" @click="emit('change', [...list, {}])">one more</v-btn>
    </fieldset>
    <template v-else>
      <v-select
        v-if="choices.length && !f.list"
        :id="id"
        :model-value="value as string"
        :items="choices"
        :label="f.name"
        :clearable="!f.required"
        variant="outlined"
        density="compact"
        hide-details
        @update:model-value="settle"
      />
      <v-combobox
        v-else-if="f.list"
        :id="id"
        :model-value="list"
        :items="items"
        :label="f.name"
        multiple
        chips
        closable-chips
        variant="outlined"
        density="compact"
        hide-details
        :placeholder="origin ? summary(settled) : (f.example ?? '')"
        :persistent-placeholder="!list.length"
        @update:model-value="settleList"
      />
      <v-combobox
        v-else-if="f.refs"
        :id="id"
        :model-value="value as string"
        :items="items"
        :label="f.name"
        clearable
        variant="outlined"
        density="compact"
        hide-details
        :placeholder="origin ? String(settled) : ''"
        :persistent-placeholder="!!origin"
        @update:model-value="settle"
      />
      <v-textarea
        v-else-if="f.lines"
        :id="id"
        :model-value="value as string"
        :label="f.name"
        :placeholder="f.example"
        class="mono"
        rows="5"
        variant="outlined"
        density="compact"
        hide-details
        @change="settle(($event.target as HTMLTextAreaElement).value)"
      />
      <v-text-field
        v-else
        :id="id"
        :model-value="value as string"
        :label="f.name"
        :placeholder="origin ? String(settled) : (f.example ?? '')"
        :persistent-placeholder="!!origin"
        hide-details
        @change="settle(($event.target as HTMLInputElement).value)"
      />
      <p class="hint">
        <span v-if="origin" class="origin">Not said here: {{ summary(settled) }} is taken from {{ origin }}. </span>{{ hint }}
        <em v-if="f.then">{{ f.then }}</em>
        <v-btn v-for="k in f.refs ?? []" :key="k" size="x-small" variant="text" color="secondary" :prepend-icon="mdiPlus" @click="make(k)"
          >new {{ single(k) }}</v-btn
        >
      </p>
    </template>
  </div>
</template>

<style scoped>
.field {
  margin-bottom: 10px;
}
.hint {
  font-size: 11.5px;
  line-height: 1.35;
  color: rgb(var(--v-theme-quiet));
  margin: 2px 2px 0;
}
.hint.below {
  margin-top: -8px;
  margin-left: 40px;
}
.origin {
  color: rgb(var(--v-theme-secondary));
  font-weight: 600;
}
fieldset {
  border: 1px solid rgba(128, 140, 160, 0.35);
  padding: 6px 10px 2px;
}
legend {
  font-size: 12.5px;
  font-weight: 600;
  padding: 0 4px;
}
fieldset > .hint {
  margin-bottom: 8px;
}
.item {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: flex-start;
}
.item > .field {
  flex: 1 1 150px;
}
</style>
