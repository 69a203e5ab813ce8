<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api'
import { usePlan } from '../plan'

// The site as the plan has it, by what the service says is to be drawn: people at the left, the way in, the gateway, and what is behind it.
// Choosing a passage shows its way.
const emit = defineEmits<{ open: [string] }>()
const plan = usePlan()
const chosen = ref('')

type Thing = Schemas['OutlineBox']
interface Box extends Thing {
  key: string
  x: number
  y: number
  w: number
  h: number
}
interface Line {
  from: Box
  to: Box
  passages: string[]
}

const lineHeight = 15
const letter = 6 // width of a letter, about

function column(x: number, w: number, top: number, list: Thing[]): Box[] {
  let y = top
  return list.map((b) => {
    const h = 26 + b.lines.length * lineHeight
    const box = { ...b, lines: b.lines.map((l) => cut(l, Math.floor((w - 14) / letter))), key: b.path, x, y, w, h }
    y += h + 12
    return box
  })
}
const cut = (text: string, n: number) => (text.length > n ? text.slice(0, n - 1) + '…' : text)

const scene = computed(() => {
  const p = plan.reading?.picture
  if (!p?.gateway) return undefined
  const passages = column(0, 236, 40, p.passages)
  const tunnels = column(276, 150, 40, p.tunnels)
  const gate = column(466, 188, p['in-front'] ? 104 : 70, [p.gateway])[0]
  const sky = p.internet ? column(466, 188, 0, [{ path: 'internet', title: 'internet', lines: [] }])[0] : undefined
  const wall = p['in-front'] ? { ...column(466, 188, 46, [p['in-front']])[0], key: 'front' } : undefined
  const routers = column(700, 112, 150, p.routers)
  const networks = column(856, 244, 16, p.networks)
  const linked = [...passages, ...tunnels, gate, ...(sky ? [sky] : []), ...routers, ...networks]
  const find = (path: string) => linked.find((b) => b.path === path)
  const lines: Line[] = []
  for (const w of p.ways) {
    const [from, to] = [find(w.from), find(w.to)]
    if (from && to) lines.push({ from, to, passages: w.passages })
  }
  const boxes = [...linked, ...(wall ? [wall] : [])]
  const zones = [...new Set(networks.map((b) => b.zone).filter(Boolean))].map((z) => {
    const mine = networks.filter((b) => b.zone === z)
    return { name: z, y: mine[0].y - 5, h: mine[mine.length - 1].y + mine[mine.length - 1].h - mine[0].y + 10 }
  })
  return { boxes, lines, zones, height: Math.max(...boxes.map((b) => b.y + b.h)) + 12, left_out: p['left-out'] }
})

function curve(l: Line): string {
  if (Math.abs(l.from.x - l.to.x) < 20) return `M${l.from.x + l.from.w / 2},${l.from.y} L${l.to.x + l.to.w / 2},${l.to.y + l.to.h}`
  const x1 = l.from.x + l.from.w
  const y1 = l.from.y + l.from.h / 2
  const x2 = l.to.x
  const y2 = l.to.y + l.to.h / 2
  const bend = (x2 - x1) / 2
  return `M${x1},${y1} C${x1 + bend},${y1} ${x2 - bend},${y2} ${x2},${y2}`
}
const lit = (l: Line) => chosen.value !== '' && l.passages.includes(chosen.value)

const worst = computed(() => {
  const out: Record<string, string> = {}
  for (const f of [...(plan.checked?.findings ?? [])].reverse())
    if (f.severity !== 'note') out[f.path.split('/').slice(0, 2).join('/')] = f.severity
  return out
})

function pick(b: Box) {
  if (b.path.startsWith('passages/') && chosen.value !== b.title) chosen.value = b.title
  else if (b.path !== 'internet') emit('open', b.path)
}
</script>

<template>
  <section aria-label="Picture of the site">
    <div class="d-flex align-center ga-3">
      <h2>The site, as the plan has it</h2>
      <span class="about">{{
        chosen
          ? `The way of passage ${chosen}: what its devices send into the tunnel.`
          : 'Choose a passage to see its way; choose anything else to change it.'
      }}</span>
      <v-btn v-if="chosen" size="x-small" variant="outlined" @click="emit('open', 'passages/' + chosen)">open {{ chosen }}</v-btn>
      <v-btn v-if="chosen" size="x-small" variant="text" @click="chosen = ''">all</v-btn>
    </div>
    <div class="frame" tabindex="0" role="region" aria-label="The picture">
      <svg
        v-if="scene"
        :viewBox="`-4 -4 1108 ${scene.height}`"
        role="group"
        aria-label="People, tunnels, gateway, routers and networks, with the ways between them"
      >
        <g v-for="z in scene.zones" :key="z.name">
          <rect x="848" :y="z.y" width="256" :height="z.h" class="zone" />
          <text :x="844" :y="z.y + 10" class="zonename" text-anchor="end">{{ z.name }}</text>
        </g>
        <path v-for="(l, i) in scene.lines" :key="i" :d="curve(l)" class="way" :class="{ lit: lit(l), dim: chosen && !lit(l) }" />
        <g
          v-for="b in scene.boxes"
          :key="b.key"
          class="box"
          :class="[b.path.split('/')[0], { off: b.off, chosen: b.path === 'passages/' + chosen }]"
          tabindex="0"
          role="button"
          :aria-label="b.path"
          @click="pick(b)"
          @keydown.enter="pick(b)"
        >
          <rect :x="b.x" :y="b.y" :width="b.w" :height="b.h" />
          <text :x="b.x + 9" :y="b.y + 17" class="title">{{ b.title }}{{ b.off ? ' (off)' : '' }}</text>
          <text v-if="worst[b.path]" :x="b.x + b.w - 16" :y="b.y + 17" class="sign" :class="worst[b.path]">
            {{ worst[b.path] === 'stop' ? '✗' : '!' }}
          </text>
          <text v-for="(line, i) in b.lines" :key="i" :x="b.x + 9" :y="b.y + 33 + i * 15" class="line">{{ line }}</text>
        </g>
      </svg>
    </div>
    <p v-if="scene && scene.left_out > 0" class="about">
      {{ scene.left_out }} more passages and networks are not drawn; the steps list them all.
    </p>
    <p v-if="!scene" class="about">There is nothing to draw yet: make a gateway.</p>
  </section>
</template>

<style scoped>
h2 {
  font-size: 18px;
}
.about {
  font-size: 12.5px;
  color: rgb(var(--v-theme-quiet));
}
svg {
  width: 100%;
  height: auto;
  max-height: calc(100vh - 190px);
  margin-top: 8px;
}
.frame {
  overflow-x: auto;
}
@media (max-width: 900px) {
  svg {
    min-width: 860px;
    max-height: none;
  }
}
.box {
  cursor: pointer;
}
.box rect {
  fill: rgb(var(--v-theme-surface));
  stroke: rgba(128, 140, 160, 0.8);
  stroke-width: 1;
}
.box:hover rect,
.box:focus-visible rect,
.box.chosen rect {
  stroke: rgb(var(--v-theme-lantern));
  stroke-width: 2.5;
}
.box.gateways rect {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2;
}
.box.internet rect {
  stroke-dasharray: 5 4;
}
.box.off {
  opacity: 0.5;
}
.title {
  font-size: 13px;
  font-weight: 650;
  fill: rgb(var(--v-theme-on-surface));
}
.line {
  font-size: 11px;
  fill: rgb(var(--v-theme-quiet));
}
.sign {
  font-weight: 700;
  font-size: 13px;
}
.sign.stop {
  fill: rgb(var(--v-theme-bad));
}
.sign.warn {
  fill: rgb(var(--v-theme-caution));
}
.way {
  fill: none;
  stroke: rgba(128, 140, 160, 0.75);
  stroke-width: 1.3;
}
.way.lit {
  stroke: rgb(var(--v-theme-lantern));
  stroke-width: 4;
}
.way.dim {
  opacity: 0.35;
}
.zone {
  fill: rgba(128, 140, 160, 0.1);
  stroke: none;
}
.zonename {
  font-size: 11px;
  fill: rgb(var(--v-theme-quiet));
}
</style>
