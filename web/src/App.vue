<script setup lang="ts">
import { mdiLogout, mdiThemeLightDark } from '@mdi/js'
import { useTheme } from 'vuetify'
import { useRoute, useRouter } from 'vue-router'
import { onBeforeUnmount, ref, watch } from 'vue'
import { api } from './api'
import { useSession } from './session'
import { loadSteps } from './steps'
import QuestionDialog from './components/QuestionDialog.vue'
import WorkingBar from './components/WorkingBar.vue'

const session = useSession()
const route = useRoute()
const router = useRouter()
const theme = useTheme()
const pages = [
  { to: '/', word: 'Reach' },
  { to: '/plan', word: 'Plan' },
  { to: '/trials', word: 'Trials' },
  { to: '/diagnose', word: 'Diagnose' },
  { to: '/people', word: 'People' },
  { to: '/sessions', word: 'Sessions' },
  { to: '/journal', word: 'Journal' },
  { to: '/status', word: 'Status' },
]

// What keeps the newest revision from running is said on every page.
const problem = ref('')
async function look() {
  if (route.meta.open) return
  void loadSteps()
  const { data } = await api.GET('/api/v1/status')
  problem.value = data?.problem ?? ''
}
watch(() => route.path, look, { immediate: true })
const looking = window.setInterval(look, 15000)
onBeforeUnmount(() => window.clearInterval(looking))

function swap() {
  theme.change(theme.global.current.value.dark ? 'light' : 'dark')
}

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <v-app>
    <header v-if="!route.meta.open" class="bar">
      <img src="/lantern.svg" alt="" width="26" height="26" />
      <strong>Yellow Lantern</strong>
      <nav aria-label="Pages">
        <router-link v-for="p in pages" :key="p.to" :to="p.to" :class="{ here: route.path === p.to }">{{ p.word }}</router-link>
      </nav>
      <router-link to="/access" class="who" title="Administrators, tokens, your second factor">{{ session.name }}</router-link>
      <v-btn :icon="mdiThemeLightDark" size="small" variant="text" color="white" aria-label="Light or dark" @click="swap" />
      <v-btn :icon="mdiLogout" size="small" variant="text" color="white" aria-label="Sign out" @click="leave" />
    </header>
    <v-main>
      <v-alert v-if="problem && !route.meta.open" id="not-running" type="error" variant="flat" density="compact" rounded="0" role="alert">
        {{ problem }} <router-link to="/plan" class="text-white">Go to the plan</router-link>
      </v-alert>
      <router-view />
    </v-main>
    <WorkingBar v-if="!route.meta.open" />
    <QuestionDialog />
  </v-app>
</template>

<style scoped>
.bar {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 6px 20px;
  flex-wrap: wrap;
  background: #14274a;
  color: #fff;
}
nav {
  display: flex;
  gap: 4px;
  margin-left: 24px;
  flex: 1;
}
nav a {
  color: #cfd9ec;
  text-decoration: none;
  padding: 8px 14px;
  border-bottom: 3px solid transparent;
}
nav a.here {
  color: #fff;
  border-color: #ffb627;
}
@media (max-width: 900px) {
  .bar {
    padding: 4px 8px;
    gap: 6px;
  }
  nav {
    order: 3;
    flex: 1 0 100%;
    margin-left: 0;
    overflow-x: auto;
  }
  nav a {
    padding: 8px 10px;
    white-space: nowrap;
  }
  .who {
    flex: 1;
    text-align: right;
  }
}
.who {
  color: #cfd9ec;
  font-size: 13px;
  text-underline-offset: 3px;
}
</style>
