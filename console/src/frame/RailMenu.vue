<script setup lang="ts">
import { mdiChevronLeft, mdiChevronRight } from '@mdi/js'
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { useSession } from '../composables/session'

import { groups, isAt } from './pages'

/** The pages, in four groups; folded it shows their icons alone. */
defineProps<{ folded: boolean; badge: number; foldable: boolean }>()
const emit = defineEmits<{ fold: [] }>()
const route = useRoute()
const session = useSession()
const shown = computed(() =>
  groups.map((g) => ({ ...g, pages: g.pages.filter((p) => !p.role || session.may(p.role)) })),
)
</script>

<template>
  <nav class="rail" :class="{ folded }" aria-label="Pages">
    <router-link to="/" class="logo" aria-label="Urgentis: Now"
      ><img src="/icon.svg" alt="" width="28" height="28" /><span v-if="!folded">Urgentis</span></router-link
    >
    <template v-for="g in shown" :key="g.title">
      <p class="group">
        <span v-if="!folded">{{ g.title }}</span>
      </p>
      <router-link
        v-for="p in g.pages"
        :key="p.to"
        :to="p.to"
        class="to"
        :aria-current="isAt(p.to, route.path) ? 'page' : undefined"
        :aria-label="p.to === '/' && badge ? `${p.title}, ${badge} wait` : p.title"
        :title="folded ? p.title : undefined"
      >
        <svg viewBox="0 0 24 24" width="18" height="18" aria-hidden="true">
          <path :d="p.icon" fill="currentColor" />
        </svg>
        <span v-if="!folded">{{ p.title }}</span>
        <span v-if="p.to === '/' && badge" class="count num" aria-hidden="true">{{ badge }}</span>
      </router-link>
    </template>
    <button v-if="foldable" type="button" class="to fold" :aria-expanded="!folded" @click="emit('fold')">
      <svg viewBox="0 0 24 24" width="18" height="18" aria-hidden="true">
        <path :d="folded ? mdiChevronRight : mdiChevronLeft" fill="currentColor" />
      </svg>
      <span :class="{ unseen: folded }">{{ folded ? 'Unfold the menu' : 'Fold' }}</span>
    </button>
  </nav>
</template>

<style scoped>
.rail {
  --rail-on: #1d4a46;
  --rail-ink: #cfe3df;
  --rail-dim: #94b5b0;
  --lamp: #f0b34e;
  background: #0f3330;
  color: var(--rail-ink);
  min-height: 100%;
  padding: 8px;
  display: flex;
  flex-direction: column;
}
.v-theme--dark .rail {
  --rail-on: #1a3634;
  --rail-ink: #c6d9d6;
  --rail-dim: #86a5a1;
  background: #0a1316;
}
.logo {
  display: flex;
  align-items: center;
  gap: 10px;
  height: 32px;
  padding: 0 6px;
  margin-bottom: 8px;
  color: #fff;
  font-size: 15px;
  font-weight: 650;
  text-decoration: none;
}
.group {
  font-size: 11px;
  line-height: 16px;
  font-weight: 600;
  color: var(--rail-dim);
  padding: 8px 10px 3px;
}
.folded .group {
  margin: 5px 6px;
  padding: 0;
  border-top: 1px solid var(--rail-on);
}
.to {
  position: relative;
  display: flex;
  align-items: center;
  gap: 12px;
  height: 30px;
  padding: 0 10px;
  border-radius: 4px;
  color: inherit;
  font-size: 13px;
  text-decoration: none;
}
.to:hover {
  background: var(--rail-on);
}
.to[aria-current] {
  background: var(--rail-on);
  color: #fff;
  font-weight: 600;
  box-shadow: inset 3px 0 0 var(--lamp);
}
.to:focus-visible,
.logo:focus-visible {
  outline-color: var(--lamp);
}
.folded .to {
  padding: 0 11px;
}
.count {
  margin-left: auto;
  background: var(--lamp);
  color: #2a1a00;
  font-size: 11px;
  line-height: 16px;
  font-weight: 700;
  padding: 0 5px;
  border-radius: 3px;
}
.folded .count {
  position: absolute;
  right: 0;
  top: 1px;
  line-height: 13px;
  padding: 0 3px;
}
.fold {
  margin-top: auto;
  background: none;
  border: 0;
  font: inherit;
  font-size: 13px;
  cursor: pointer;
}
.unseen {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
@media (max-width: 959px) {
  .to {
    height: 44px;
  }
}
</style>
