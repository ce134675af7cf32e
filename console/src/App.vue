<script setup lang="ts">
import { useEventListener, useLocalStorage } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRouter, useRoute } from 'vue-router'
import { useTheme } from 'vuetify'

import WaitingBar from './components/WaitingBar.vue'
import { useStatus } from './composables/data'
import { useLive } from './composables/live'
import { useSession } from './composables/session'

const session = useSession()
const live = useLive()
const router = useRouter()
const route = useRoute()
const theme = useTheme()
const keys = ref(false)
const inside = computed(() => !!session.me && !route.meta.open)

watch(
  () => !!session.me,
  (yes) => (yes ? live.open() : live.close()),
  { immediate: true },
)

const pages = [
  { to: '/', title: 'Now', key: '1' },
  { to: '/incidents', title: 'Incidents', key: '2' },
  { to: '/runbooks', title: 'Runbooks', key: '3' },
  { to: '/runs', title: 'Runs', key: '4' },
  { to: '/triggers', title: 'Triggers', key: '5' },
  { to: '/sources', title: 'Sources', key: '6' },
  { to: '/documents', title: 'Documents', key: '7' },
  { to: '/services', title: 'Services', key: '8' },
]
/** The library is where runbooks come from. */
const isAt = (to: string) =>
  to === '/'
    ? route.path === '/'
    : [to, ...(to === '/runbooks' ? ['/library'] : [])].some((x) => route.path.startsWith(x))
const shortcuts = [
  ...pages.map((p) => [p.key, p.title]),
  ['a', 'go to the button that approves'],
  ['x', 'go to the button that refuses'],
  ['d', 'light or dark'],
  ['?', 'these keys'],
  ['Esc', 'close'],
]

/** Empty while nobody chose: then it is as the system has it. */
const chosen = useLocalStorage<'' | 'light' | 'dark'>('urgentis-theme', '')
watch(chosen, (name) => (name === 'light' || name === 'dark') && theme.change(name), { immediate: true })
function turn() {
  chosen.value = theme.global.current.value.dark ? 'light' : 'dark'
}

function pressed(e: KeyboardEvent) {
  const t = e.target as HTMLElement
  const writes = t.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(t.tagName)
  if (e.ctrlKey || e.metaKey || e.altKey || writes) return
  const page = pages.find((p) => p.key === e.key)
  if (page && inside.value) void router.push(page.to)
  else if (e.key === '?') keys.value = !keys.value
  else if (e.key === 'd') turn()
  else if (e.key === 'a') document.getElementById('approve')?.focus()
  else if (e.key === 'x') document.getElementById('refuse')?.focus()
}

useEventListener('keydown', pressed)

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <v-app>
    <a class="skip" href="#main">To the content</a>
    <header class="top">
      <router-link to="/" class="brand"><img src="/icon.svg" alt="" width="22" height="22" /> Urgentis</router-link>
      <nav v-if="inside" aria-label="Pages">
        <router-link v-for="p in pages" :key="p.to" :to="p.to" :class="{ here: isAt(p.to) }">{{ p.title }}</router-link>
      </nav>
      <span class="gap" />
      <span v-if="inside && !live.connected" role="status" class="lost"
        ><span aria-hidden="true">◇</span> connection lost, trying again</span
      >
      <button type="button" class="quiet" aria-label="Light or dark" title="Light or dark (d)" @click="turn">
        <span aria-hidden="true">◑</span>
      </button>
      <button type="button" class="quiet" aria-label="Keys" title="Keys (?)" @click="keys = true">?</button>
      <template v-if="inside">
        <router-link to="/me" class="faint wide" title="How you are reached">{{ session.me?.name }}</router-link>
        <button type="button" class="quiet" @click="leave">Sign out</button>
      </template>
    </header>
    <HaltBar v-if="inside" />
    <WaitingBar v-if="inside" />
    <main id="main" tabindex="-1"><router-view :key="route.path" /></main>
    <v-dialog v-model="keys" max-width="420" aria-label="Keys">
      <div class="keys">
        <h2>Keys</h2>
        <table class="plain">
          <tbody>
            <tr v-for="[k, what] in shortcuts" :key="k">
              <td class="mono">{{ k }}</td>
              <td>{{ what }}</td>
            </tr>
          </tbody>
        </table>
        <v-btn size="small" class="mt-3" @click="keys = false">Close</v-btn>
      </div>
    </v-dialog>
  </v-app>
</template>

<script lang="ts">
import { defineComponent, h } from 'vue'

/** Says on every page that all changes are halted. */
const HaltBar = defineComponent(() => {
  const q = useStatus()
  return () =>
    q.data.value?.halted
      ? h('p', { class: 'halt', role: 'status' }, `✕ All changes are halted by ${q.data.value.halted_by}. Looks go on.`)
      : null
})
</script>

<style scoped>
.top {
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 0 20px;
  height: 46px;
  background: rgb(var(--v-theme-surface));
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  position: sticky;
  top: 0;
  z-index: 10;
}
.brand {
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 680;
  color: rgb(var(--v-theme-on-surface));
  text-decoration: none;
  margin-right: 18px;
}
nav {
  display: flex;
  gap: 2px;
}
nav a {
  color: rgba(var(--v-theme-on-surface), 0.78);
  text-decoration: none;
  padding: 5px 10px;
  border-radius: 4px;
}
nav a.here {
  color: rgb(var(--v-theme-on-surface));
  font-weight: 600;
  background: rgba(var(--v-theme-on-surface), 0.07);
}
.gap {
  flex: 1;
}
.lost {
  color: rgb(var(--v-theme-warning));
  font-size: 13px;
}
.keys {
  background: rgb(var(--v-theme-surface));
  padding: 8px 24px 20px;
  border-radius: 6px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.14);
}
:deep(.halt) {
  background: rgba(var(--v-theme-error), 0.12);
  border-bottom: 1px solid rgb(var(--v-theme-error));
  color: rgb(var(--v-theme-error));
  padding: 6px 20px;
  font-weight: 600;
  text-align: center;
}
main:focus {
  outline: none;
}
@media (max-width: 700px) {
  .top {
    padding: 0 10px;
    gap: 2px;
    flex-wrap: wrap;
    height: auto;
    min-height: 46px;
  }
  .brand {
    margin-right: 6px;
  }
  nav {
    order: 1;
    flex-basis: 100%;
    overflow-x: auto;
    margin-bottom: 4px;
  }
  nav a {
    padding: 5px 7px;
  }
}
</style>
