<script setup lang="ts">
import { computed, ref } from 'vue'
import { holds } from '../net'
import { usePlan } from '../plan'

// The site as the plan has it: people at the left, the way in, the gateway, and what is behind it. Choosing a passage shows its way.
const emit = defineEmits<{ open: [string] }>()
const plan = usePlan()
const chosen = ref('')

interface Box {
  key: string
  path: string
  x: number
  y: number
  w: number
  h: number
  title: string
  lines: string[]
  off?: boolean
  zone?: string
}
interface Line {
  from: Box
  to: Box
  passages: string[]
}

const lineHeight = 15
const most = 14 // boxes of a column; a larger plan is shown in part

function column(
  x: number,
  w: number,
  top: number,
  list: { path: string; title: string; lines: string[]; off?: boolean; zone?: string }[],
): Box[] {
  let y = top
  return list.map((b) => {
    const h = 26 + b.lines.length * lineHeight
    const box = { ...b, key: b.path, x, y, w, h }
    y += h + 12
    return box
  })
}
const cut = (text: string, n: number) => (text.length > n ? text.slice(0, n - 1) + '…' : text)

const scene = computed(() => {
  const p = plan.reading?.plan
  const passages = (plan.reading?.settled ?? []).slice(0, most)
  const gateway = p?.gateways?.[0]
  if (!p || !gateway) return undefined
  const nets = (p.networks ?? []).slice(0, most)
  const homeOf = (address: string) => {
    let best: { name: string; bits: number } | undefined
    for (const n of p.networks ?? [])
      for (const prefix of n.prefixes)
        if (holds(prefix, address) && (!best || Number(prefix.split('/')[1]) > best.bits))
          best = { name: n.name, bits: Number(prefix.split('/')[1]) }
    return best?.name
  }
  const hostsIn = new Map<string, string[]>()
  for (const h of p.hosts ?? []) {
    const home = homeOf(h.addresses?.[0] ?? h.ranges?.[0]?.split(/[-/]/)[0] ?? '')
    if (home) hostsIn.set(home, [...(hostsIn.get(home) ?? []), h.name])
  }
  const left = column(
    0,
    236,
    40,
    passages.map((x) => ({
      path: 'passages/' + x.name,
      title: x.name,
      off: x.off,
      lines: [
        cut('who: ' + x.groups.join(', '), 38),
        cut('addresses: ' + (x.pool ?? 'none'), 38),
        cut(x.routes?.full ? 'routes: everything' : 'routes: ' + (x.routes?.split ?? []).join(', '), 38),
      ],
    })),
  )
  const tunnels = column(
    276,
    150,
    40,
    (p.tunnels ?? []).slice(0, most).map((t) => ({
      path: 'tunnels/' + t.name,
      title: t.name,
      off: t.off,
      lines: [t.kind + ', ' + t.login, ...(t.identity ? [cut(t.identity, 24)] : [])],
    })),
  )
  const front = gateway.outside['in-front']
  const nat = (p.nat ?? []).filter((n) => n.gateway === gateway.name && !n.off)
  const gate = column(466, 188, front ? 104 : 70, [
    {
      path: 'gateways/' + gateway.name,
      title: gateway.name,
      lines: [
        cut(gateway.dial, 30),
        ...gateway.outside.addresses.map((a) => cut('outside ' + a, 30)),
        ...(gateway.inside ?? []).map((a) => cut(`in ${a.network} ${a.addresses[0] ?? ''}`, 30)),
        ...nat.slice(0, 4).map((n) => cut(`${n.action} ${n.name}`, 30)),
      ],
    },
  ])[0]
  const sky = gateway.internet ? column(466, 188, 0, [{ path: 'internet', title: 'internet', lines: [] }])[0] : undefined
  const wall = front
    ? column(466, 188, 46, [{ path: `gateways/${gateway.name}`, title: 'router in front', lines: [front.address] }])[0]
    : undefined
  if (wall) wall.key = 'front'
  const routers = column(
    700,
    112,
    150,
    (p.routers ?? []).slice(0, most).map((r) => ({ path: 'routers/' + r.name, title: r.name, lines: [cut(r.addresses[0] ?? '', 18)] })),
  )
  const right = column(
    856,
    244,
    16,
    [...nets]
      .sort((a, b) => (a.zone ?? '~').localeCompare(b.zone ?? '~'))
      .map((n) => {
        const hosts = hostsIn.get(n.name) ?? []
        return {
          path: 'networks/' + n.name,
          title: n.name,
          zone: n.zone,
          lines: [
            cut(n.prefixes.join(', '), 38),
            ...(n.site ? ['of ' + n.site] : []),
            ...(hosts.length ? [cut(hosts.slice(0, 4).join(', ') + (hosts.length > 4 ? ` and ${hosts.length - 4} more` : ''), 38)] : []),
          ],
        }
      }),
  )

  // The networks that a passage's devices send packets to.
  const reach = new Map<string, Set<string>>()
  for (const x of passages) {
    const set = new Set<string>()
    const add = (word: string, depth: number) => {
      if ((p.networks ?? []).some((n) => n.name === word)) set.add(word)
      for (const n of p.networks ?? []) if (n.zone === word || n.prefixes.includes(word)) set.add(n.name)
      const h = (p.hosts ?? []).find((o) => o.name === word)
      const home = h ? homeOf(h.addresses?.[0] ?? '') : homeOf(word)
      if (home) set.add(home)
      if (depth < 5) for (const m of (p['host-groups'] ?? []).find((g) => g.name === word)?.members ?? []) add(m, depth + 1)
    }
    if (x.routes?.full) for (const n of nets) set.add(n.name)
    for (const word of x.routes?.split ?? []) add(word, 0)
    reach.set(x.name, set)
  }
  const lines: Line[] = []
  const link = (from: Box | undefined, to: Box | undefined, who: string[]) => from && to && lines.push({ from, to, passages: who })
  const find = (boxes: Box[], path: string) => boxes.find((b) => b.path === path)
  for (const x of passages) for (const t of x.tunnels ?? []) link(find(left, 'passages/' + x.name), find(tunnels, 'tunnels/' + t), [x.name])
  for (const t of tunnels)
    link(
      t,
      gate,
      passages.filter((x) => (x.tunnels ?? []).includes(t.title)).map((x) => x.name),
    )
  const goes = (network: string) => passages.filter((x) => reach.get(x.name)?.has(network)).map((x) => x.name)
  const attached = new Set((gateway.inside ?? []).map((a) => a.network))
  const via = new Set((gateway.routes ?? []).map((r) => r.via))
  for (const r of p.routers ?? []) {
    const behind = nets.filter((n) => n.router === r.name && !attached.has(n.name))
    const box = find(routers, 'routers/' + r.name)
    if (r.addresses.some((a) => via.has(a))) link(gate, box, [...new Set(behind.flatMap((n) => goes(n.name)))])
    for (const n of behind) link(box, find(right, 'networks/' + n.name), goes(n.name))
  }
  for (const n of nets) if (attached.has(n.name)) link(gate, find(right, 'networks/' + n.name), goes(n.name))
  if (sky)
    link(
      gate,
      sky,
      passages.filter((x) => x.routes?.full).map((x) => x.name),
    )
  const boxes = [...left, ...tunnels, gate, ...(sky ? [sky] : []), ...(wall ? [wall] : []), ...routers, ...right]
  const left_out = (plan.reading?.settled.length ?? 0) - passages.length + (p.networks?.length ?? 0) - nets.length
  const zones = [...new Set(right.map((b) => b.zone).filter(Boolean))].map((z) => {
    const mine = right.filter((b) => b.zone === z)
    return { name: z, y: mine[0].y - 5, h: mine[mine.length - 1].y + mine[mine.length - 1].h - mine[0].y + 10 }
  })
  return { boxes, lines, zones, height: Math.max(...boxes.map((b) => b.y + b.h)) + 12, left_out }
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
