<script setup lang="ts">
import { onMounted, onUnmounted, ref } from 'vue'
import { api, type Schemas } from '../api'

const pools = ref<Schemas['GatewayPool'][]>([])
let timer = 0

async function load() {
  const { data } = await api.GET('/api/v1/pools')
  pools.value = data ?? []
}
onMounted(() => {
  void load()
  timer = window.setInterval(load, 5000)
})
onUnmounted(() => window.clearInterval(timer))

const share = (n: number, p: Schemas['GatewayPool']) => `${p.total ? Math.max(n ? 2 : 0, (100 * n) / p.total) : 0}%`
</script>

<template>
  <section v-if="pools.length" id="pool-usage">
    <h3>in use now</h3>
    <div v-for="p in pools" :key="p.name" class="pool">
      <b>{{ p.name }}</b>
      <div class="bar" role="img" :aria-label="`${p.leased} leased, ${p.kept} kept, ${p.free} free`">
        <span class="leased" :style="{ width: share(p.leased, p) }" /><span class="kept" :style="{ width: share(p.kept, p) }" />
      </div>
      <span>{{ p.leased }} leased · {{ p.kept }} kept · {{ p.free }} free of {{ p.total }}</span>
      <details v-if="p.leases.length">
        <summary>whose</summary>
        <p v-for="l in p.leases.slice(0, 200)" :key="l.address" class="mono">
          {{ l.address }} {{ l.holder }}{{ l.kept ? ', kept' : '' }}{{ l.out ? ', leased' : '' }}
        </p>
      </details>
    </div>
  </section>
</template>

<style scoped>
h3 {
  font-size: 13.5px;
}
.pool {
  display: grid;
  grid-template-columns: 90px 140px 1fr;
  gap: 4px 10px;
  align-items: center;
  font-size: 12.5px;
  margin: 4px 0;
}
.pool details {
  grid-column: 1 / -1;
}
.pool p {
  margin: 0;
}
.bar {
  display: flex;
  height: 12px;
  border: 1px solid rgba(128, 140, 160, 0.6);
}
.leased {
  background: rgb(var(--v-theme-primary));
}
.kept {
  background: repeating-linear-gradient(45deg, rgb(var(--v-theme-lantern)) 0 3px, transparent 3px 6px);
}
</style>
