<script setup lang="ts">
import { useEventListener, useLocalStorage } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'

import { useLive } from './composables/live'
import { useSession } from './composables/session'
import { pages } from './frame/pages'
import { searching } from './frame/searching'

const AppFrame = defineAsyncComponent(() => import('./frame/AppFrame.vue'))
const HaltLine = defineAsyncComponent(() => import('./frame/HaltLine.vue'))
const LostSession = defineAsyncComponent(() => import('./frame/LostSession.vue'))
const KeysDialog = defineAsyncComponent(() => import('./frame/KeysDialog.vue'))

const session = useSession()
const live = useLive()
const router = useRouter()
const route = useRoute()
const theme = useTheme()
const inside = computed(() => !!session.me && !route.meta.open)

watch(
  () => !!session.me,
  (yes) => (yes ? live.open() : live.close()),
  { immediate: true },
)

const keys = ref(false)
/** Empty while nobody chose: then it is as the system has it. */
const chosen = useLocalStorage<'' | 'light' | 'dark'>('urgentis-theme', '')
watch(chosen, (name) => (name === 'light' || name === 'dark') && theme.change(name), { immediate: true })
const dark = computed(() => theme.global.current.value.dark)
const turn = () => (chosen.value = dark.value ? 'light' : 'dark')

/** Goes to the next of several buttons that do the same: two gates on a page are reached in turn. */
function next(selector: string) {
  const all = [...document.querySelectorAll<HTMLElement>(selector)]
  const at = all.indexOf(document.activeElement as HTMLElement)
  all[(at + 1) % all.length]?.focus()
}

function pressed(e: KeyboardEvent) {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k' && inside.value) {
    e.preventDefault()
    searching.value = !searching.value
    return
  }
  const t = e.target as HTMLElement
  const writes = t.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(t.tagName)
  if (e.ctrlKey || e.metaKey || e.altKey || writes) return
  const page = pages.find((p) => p.key === e.key)
  if (page && inside.value) void router.push(page.to)
  else if (e.key === '/' && inside.value) {
    e.preventDefault()
    searching.value = true
  } else if (e.key === '?') keys.value = !keys.value
  else if (e.key === 'd') turn()
  else if (e.key === 'a') next('button.approves:not([disabled])')
  else if (e.key === 'x') next('button.refuses:not([disabled])')
}
useEventListener('keydown', pressed)
</script>

<template>
  <v-app>
    <a class="skip" href="#main">To the content</a>
    <AppFrame v-if="inside" :dark="dark" @turn="turn" @keys="keys = true" />
    <v-main id="main" tabindex="-1" tag="main">
      <HaltLine v-if="inside" />
      <router-view :key="route.path" />
    </v-main>
    <KeysDialog v-if="keys" v-model="keys" />
    <LostSession v-if="inside && session.lost" />
  </v-app>
</template>

<style scoped>
main:focus {
  outline: none;
}
</style>
