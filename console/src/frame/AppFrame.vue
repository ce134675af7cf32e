<script setup lang="ts">
import { useLocalStorage, useMediaQuery } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { useStatus } from '../composables/data'
import { useSession } from '../composables/session'
import { useTitle } from '../composables/title'
import { useWaits } from '../composables/waits'
import RailMenu from './RailMenu.vue'
import { searching } from './searching'
import TopBar from './TopBar.vue'

/** What stands around every page of whoever is signed in: the rail, the bar, and what both open. */
defineProps<{ dark: boolean }>()
const emit = defineEmits<{ turn: []; keys: [] }>()
const SearchDialog = defineAsyncComponent(() => import('./SearchDialog.vue'))
const HaltDialog = defineAsyncComponent(() => import('./HaltDialog.vue'))

const session = useSession()
const router = useRouter()
const route = useRoute()
const narrow = useMediaQuery('(max-width: 959px)')
const wide = useMediaQuery('(min-width: 1440px)')
/** Empty while nobody chose: then it is open where there is room. */
const rail = useLocalStorage<'' | 'open' | 'folded'>('urgentis-rail', '')
const folded = computed(() => !narrow.value && (rail.value ? rail.value === 'folded' : !wide.value))
const drawer = ref(false)
watch(
  () => route.path,
  () => (drawer.value = false),
)

const { badge, count } = useWaits()
useTitle(count, badge)
const status = useStatus()
const halted = computed(() => Boolean(status.data.value?.halted))

const halting = ref(false)

async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
function act(name: 'halt' | 'turn' | 'keys' | 'leave') {
  if (name === 'halt') halting.value = true
  else if (name === 'keys') emit('keys')
  else if (name === 'turn') emit('turn')
  else void leave()
}
</script>

<template>
  <v-navigation-drawer
    :model-value="!narrow || drawer"
    :permanent="!narrow"
    :temporary="narrow"
    :width="folded ? 56 : 200"
    class="drawer"
    tag="div"
    @update:model-value="drawer = $event"
  >
    <RailMenu :folded="folded" :badge="badge" :foldable="!narrow" @fold="rail = folded ? 'open' : 'folded'" />
  </v-navigation-drawer>
  <v-app-bar height="48" flat tag="header" class="top">
    <TopBar
      :count="count"
      :narrow="narrow"
      :dark="dark"
      :halted="halted"
      @menu="drawer = true"
      @search="searching = true"
      @halt="halting = true"
      @turn="emit('turn')"
      @keys="emit('keys')"
      @leave="leave"
    />
  </v-app-bar>
  <SearchDialog v-if="searching" v-model="searching" :halted="halted" @act="act" />
  <HaltDialog v-if="halting" v-model="halting" :halted="halted" :by="status.data.value?.halted_by" />
</template>

<style scoped>
.drawer {
  border: 0 !important;
}
.top {
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.14) !important;
}
.top :deep(.v-toolbar__content) {
  display: flex;
  gap: 16px;
  padding: 0 24px;
  font-size: 13px;
}
@media (max-width: 959px) {
  .top :deep(.v-toolbar__content) {
    gap: 4px;
    padding: 0 8px;
  }
}
</style>
