<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { api, words, type Board } from '../api'
import JourneyPanel from '../components/JourneyPanel.vue'
import { legend, mark, markOf, triedWord, troubled } from '../states'

const board = ref<Board>()
const problem = ref('')
const filter = ref('')
const onlyTrouble = ref(false)
const picked = ref<{ row: number; col: number }>()

onMounted(async () => {
  const { data, error } = await api.GET('/api/v1/board')
  board.value = data
  problem.value = error ? words(error) : ''
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

const rows = computed(() =>
  (board.value?.rows ?? [])
    .map((row, index) => ({ row, index }))
    .filter(({ row, index }) => {
      const text = `${row.class} ${row.users.join(' ')} ${row.passage}`.toLowerCase()
      if (!text.includes(filter.value.toLowerCase())) return false
      return !onlyTrouble.value || row.cells.some((c, i) => troubled(c, board.value?.tried[index]?.[i]))
    }),
)

const troubles = computed(() => {
  let n = 0
  board.value?.rows.forEach((r, i) => r.cells.forEach((c, k) => troubled(c, board.value?.tried[i]?.[k]) && n++))
  return n
})
</script>

<template>
  <div class="px-5 py-3">
    <div class="d-flex align-center ga-4 mb-3 flex-wrap">
      <h1>Who reaches what</h1>
      <v-chip v-if="board" :color="troubles ? 'bad' : 'good'" variant="tonal" id="verdict">
        {{ troubles ? `${troubles} cells are not as they should be` : 'everything is as it should be' }} · revision {{ board.revision }}
      </v-chip>
      <v-spacer />
      <v-text-field v-model="filter" label="Filter people" max-width="220" />
      <v-checkbox v-model="onlyTrouble" label="Only trouble" density="compact" hide-details />
    </div>
    <v-alert v-if="problem" type="info" variant="tonal" role="alert">
      {{ problem }}
      <v-btn v-if="problem.includes('no plan')" to="/plan" size="small" color="primary" class="ml-3">Begin a plan</v-btn>
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
          <tr v-for="{ row, index } in rows" :key="row.class">
            <th scope="row" class="people">
              {{ row.class }}
              <small>{{ row.users.join(', ') }}</small>
              <small>{{ row.passage ? 'passage ' + row.passage : 'no passage' }}</small>
            </th>
            <td v-for="(cell, i) in row.cells" :key="i" :class="{ trouble: troubled(cell, board.tried[index]?.[i]), picked: picked?.row === index && picked?.col === i }">
              <button type="button" :aria-label="`${row.class} to ${board.destinations[i].name}: ${cell.state}`" @click="picked = { row: index, col: i }">
                <span :class="'text-' + mark(cell).color" class="state">
                  <v-icon v-if="mark(cell).icon" :icon="mark(cell).icon" size="16" />
                  {{ mark(cell).word }}
                </span>
                <small v-if="cell.computed" class="mono">{{ cell.computed }}</small>
                <small v-if="cell.state !== 'no reach'" :class="'text-' + triedWord(board.tried[index]?.[i]).color" :title="board.tried[index]?.[i]?.words">
                  {{ triedWord(board.tried[index]?.[i]).sign }} {{ triedWord(board.tried[index]?.[i]).word }}
                </small>
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </v-card>
    <div class="legend">
      <span v-for="l in legend" :key="l.state"><v-icon :icon="markOf(l.state).icon" :color="markOf(l.state).color" size="15" /> <b>{{ markOf(l.state).word }}</b> {{ l.about }}</span>
      <span>A cell opens the journey of one packet.</span>
    </div>
    <JourneyPanel
      v-if="board && picked"
      :who="board.rows[picked.row].users[0]"
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
.legend {
  display: flex;
  gap: 20px;
  flex-wrap: wrap;
  margin-top: 10px;
  font-size: 12px;
  color: rgb(var(--v-theme-quiet));
}
</style>
