<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { api, words, type Board } from '../api'
import JourneyPanel from '../components/JourneyPanel.vue'
import NextSteps from '../components/NextSteps.vue'
import { legend, mark, markOf, triedWord, troubled } from '../states'

const most = { rows: 25, columns: 24 } // drawn at once: a large site has far more
const board = ref<Board>()
const problem = ref('')
const filter = ref('')
const places = ref('')
const onlyTrouble = ref(false)
const row = ref(0)
const inward = ref(0)
const column = ref(0)
const picked = ref<{ row: number; col: number }>()
let waiting = 0
let asked = new AbortController()

// What is asked for no longer is left: the service need not work it out.
async function load(goesOn = false) {
  window.clearTimeout(waiting)
  asked.abort()
  const mine = (asked = new AbortController())
  const query = {
    people: filter.value ?? '',
    to: places.value ?? '',
    trouble: onlyTrouble.value,
    row: row.value,
    column: column.value,
    inward: inward.value,
    soon: true,
    ...most,
  }
  try {
    const { data, error } = await api.GET('/api/v1/board', { params: { query }, signal: mine.signal })
    if (!goesOn) picked.value = undefined // where the same goes on by itself, people may have begun to look
    board.value = data
    problem.value = error ? words(error) : ''
    if (data?.unfinished) waiting = window.setTimeout(() => load(true), 700)
  } catch (left) {
    if (!mine.signal.aborted) throw left
  }
}
watch([row, column, inward], () => load(), { immediate: true })
onBeforeUnmount(() => {
  window.clearTimeout(waiting)
  asked.abort()
})
watch([filter, places, onlyTrouble], () => {
  window.clearTimeout(waiting)
  waiting = window.setTimeout(() => {
    if (row.value || column.value || inward.value) row.value = column.value = inward.value = 0
    else void load()
  }, 250)
})

const groups = computed(() => {
  const out: { network: string; span: number }[] = []
  for (const d of board.value?.destinations ?? []) {
    const last = out.at(-1)
    if (last?.network === d.network) last.span++
    else out.push({ network: d.network, span: 1 })
  }
  return out
})

const rows = computed(() => (board.value?.rows ?? []).map((row, index) => ({ row, index })))
const troubles = computed(() => board.value?.troubles ?? 0)
const verdictColor = computed(() => (!board.value?.verdict.ok ? 'bad' : board.value.verdict.untried.length ? 'caution' : 'good'))
const span = (first: number, n: number, total: number) => `${total ? first + 1 : 0} to ${Math.min(first + n, total)} of ${total}`
const users = (list: string[]) => list.slice(0, 4).join(', ') + (list.length > 4 ? ` and ${list.length - 4} more` : '')
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center ga-4 mb-3 flex-wrap">
      <h1>Who reaches what</h1>
      <v-chip v-if="board?.unfinished" id="unfinished" variant="tonal">being worked out · revision {{ board.revision }}</v-chip>
      <v-chip v-else-if="board" id="verdict" :color="verdictColor" variant="tonal">
        {{ board.verdict.headline }}{{ troubles ? `, ${troubles} cells` : '' }} · revision {{ board.revision }}
      </v-chip>
      <v-spacer />
      <v-btn v-if="board" id="report" href="/api/v1/report/html" target="_blank" size="small" variant="outlined">Report to print</v-btn>
      <v-text-field v-model="filter" label="Filter people" max-width="190" clearable />
      <v-text-field v-model="places" label="Filter destinations" max-width="190" clearable />
      <v-checkbox v-model="onlyTrouble" label="Only trouble" density="compact" hide-details />
    </div>
    <v-alert v-if="problem" type="info" variant="tonal" role="alert">
      {{ problem }}
    </v-alert>
    <NextSteps />
    <v-alert
      v-if="board && !board.unfinished && (!board.verdict.ok || board.verdict.untried.length)"
      :type="board.verdict.ok ? 'info' : 'error'"
      variant="tonal"
      density="compact"
      class="mb-3"
      role="status"
    >
      {{ board.verdict.words }}
      <template v-if="board.verdict.untried.length">
        Not tried: {{ board.verdict.untried.slice(0, 6).join('; ')
        }}{{ board.verdict.untried.length > 6 ? ` and ${board.verdict.untried.length - 6} more` : '' }}.
        <v-btn to="/trials" size="x-small" variant="outlined" class="ml-2">Try</v-btn>
      </template>
    </v-alert>
    <v-card v-if="board" class="scroll">
      <table class="board">
        <thead>
          <tr>
            <th rowspan="2" class="people">People</th>
            <th v-for="(g, i) in groups" :key="i" :colspan="g.span" class="network">{{ g.network }}</th>
          </tr>
          <tr>
            <th v-for="(d, i) in board.destinations" :key="i" scope="col">{{ d.name }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="{ row: crowd, index } in rows" :key="crowd.class">
            <th scope="row" class="people">
              {{ crowd.class }}
              <small v-if="crowd.unseen">nobody seen yet</small>
              <small v-else>{{ users(crowd.users) }}</small>
              <small>{{ crowd.passage ? 'passage ' + crowd.passage : 'no passage' }}</small>
            </th>
            <td
              v-for="(cell, i) in crowd.cells"
              :key="i"
              :class="{ trouble: troubled(cell, board.tried[index]?.[i]), picked: picked?.row === index && picked?.col === i }"
            >
              <button
                type="button"
                :aria-label="`${crowd.class} to ${board.destinations[i].name}: ${cell.state}`"
                @click="picked = { row: index, col: i }"
              >
                <span :class="'text-' + mark(cell).color" class="state">
                  <v-icon v-if="mark(cell).icon" :icon="mark(cell).icon" size="16" />
                  {{ mark(cell).word }}
                </span>
                <small v-if="cell.computed" class="mono">{{ cell.computed }}</small>
                <small v-if="cell.passes" class="mono text-quiet">lets through {{ cell.passes }}</small>
                <small
                  v-if="cell.state !== 'no reach'"
                  :class="'text-' + triedWord(board.tried[index]?.[i]).color"
                  :title="board.tried[index]?.[i]?.words"
                >
                  {{ triedWord(board.tried[index]?.[i]).sign }} {{ triedWord(board.tried[index]?.[i]).word }}
                </small>
                <small v-if="board.tried[index]?.[i]?.['handed-in']" class="text-quiet" :title="board.tried[index]?.[i]?.['handed-in']">
                  ? handed in
                </small>
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <div
      v-if="board && (board['total-rows'] > most.rows || board['total-columns'] > most.columns)"
      class="d-flex ga-2 align-center mt-2 pages"
    >
      people {{ span(row, most.rows, board['total-rows']) }}
      <v-btn size="x-small" variant="outlined" :disabled="!row" @click="row -= most.rows">before</v-btn>
      <v-btn size="x-small" variant="outlined" :disabled="row + most.rows >= board['total-rows']" @click="row += most.rows">after</v-btn>
      destinations {{ span(column, most.columns, board['total-columns']) }}
      <v-btn size="x-small" variant="outlined" :disabled="!column" @click="column -= most.columns">before</v-btn>
      <v-btn size="x-small" variant="outlined" :disabled="column + most.columns >= board['total-columns']" @click="column += most.columns"
        >after</v-btn
      >
    </div>
    <div class="legend">
      <span v-for="l in legend" :key="l.state"
        ><v-icon :icon="markOf(l.state).icon" :color="markOf(l.state).color" size="15" /> <b>{{ markOf(l.state).word }}</b>
        {{ l.about }}</span
      >
      <span>A cell opens the journey of one packet.</span>
    </div>
    <v-card v-if="board?.inward.length" id="inward" class="mt-4">
      <table class="plain">
        <thead>
          <tr>
            <th>From inside towards people's devices</th>
            <th></th>
            <th>Expected</th>
            <th>Computed</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in board.inward" :key="r.class" :class="{ trouble: r.wrong.length }">
            <th scope="row">
              {{ r.class }} <small>{{ users(r.users) }}</small>
            </th>
            <td>
              <span :class="'text-' + markOf(r.state).color" class="state"
                ><v-icon v-if="markOf(r.state).icon" :icon="markOf(r.state).icon" size="16" /> {{ markOf(r.state).word }}</span
              >
            </td>
            <td class="mono">{{ r.expected.map((l) => `${l.services} from ${l.from}`).join('; ') || '–' }}</td>
            <td class="mono">
              {{ r.computed.map((l) => `${l.services} from ${l.from}`).join('; ') || '–' }}
              <small v-if="r.passes?.length" class="text-quiet"
                >lets through {{ r.passes.map((l) => `${l.services} from ${l.from}`).join('; ') }}</small
              ><b v-if="r.wrong.length" class="text-bad"> ▲ {{ r.wrong.map((l) => `${l.services} from ${l.from}`).join('; ') }}</b>
            </td>
          </tr>
        </tbody>
      </table>
      <div v-if="board['total-inward'] > most.rows" class="d-flex ga-2 align-center pa-2 pages">
        {{ span(inward, most.rows, board['total-inward']) }}
        <v-btn size="x-small" variant="outlined" :disabled="!inward" @click="inward -= most.rows">before</v-btn>
        <v-btn size="x-small" variant="outlined" :disabled="inward + most.rows >= board['total-inward']" @click="inward += most.rows"
          >after</v-btn
        >
      </div>
    </v-card>
    <JourneyPanel
      v-if="board && picked"
      :who="board.rows[picked.row].users[0] ?? `group:${board.rows[picked.row].class}`"
      :people="board.rows[picked.row].class"
      :destination="board.destinations[picked.col].name"
      :cell="board.rows[picked.row].cells[picked.col]"
      :tried="board.tried[picked.row]?.[picked.col]"
      @close="picked = undefined"
    />
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.board {
  border-collapse: collapse;
  width: 100%;
  font-size: 12.5px;
}
th,
td {
  border: 1px solid rgba(128, 140, 160, 0.25);
  text-align: left;
  vertical-align: top;
}
th {
  padding: 6px 8px;
  font-weight: 600;
}
th.network {
  color: rgb(var(--v-theme-quiet));
  text-transform: none;
}
.people {
  min-width: 150px;
  position: sticky;
  left: 0;
  background: rgb(var(--v-theme-surface));
  z-index: 1;
}
small {
  display: block;
  font-weight: 400;
  color: rgb(var(--v-theme-quiet));
  font-size: 11px;
  overflow-wrap: anywhere;
}
td button {
  width: 100%;
  min-height: 62px;
  min-width: 92px;
  padding: 6px 8px;
  text-align: left;
  display: flex;
  flex-direction: column;
}
td button:hover {
  background: rgba(255, 182, 39, 0.16);
}
td.trouble {
  background: rgba(179, 38, 30, 0.1);
  box-shadow: inset 3px 0 0 rgb(var(--v-theme-bad));
}
td.picked {
  outline: 2px solid rgb(var(--v-theme-lantern));
  outline-offset: -2px;
}
.state {
  font-weight: 600;
  white-space: nowrap;
}
.pages {
  font-size: 12.5px;
}
.legend {
  display: flex;
  gap: 20px;
  flex-wrap: wrap;
  margin-top: 10px;
  font-size: 12px;
  color: rgb(var(--v-theme-quiet));
}
</style>
