<script setup lang="ts">
import {
  mdiHandBackRightOutline,
  mdiMagnify,
  mdiMenu,
  mdiPhoneInTalkOutline,
  mdiWeatherNight,
  mdiWhiteBalanceSunny,
} from '@mdi/js'
import { computed } from 'vue'

import StateShape from '../components/StateShape.vue'
import { clockTime, useClock, zoneShort } from '../composables/clock'
import { useOnCall } from '../composables/data'
import { useLive } from '../composables/live'
import { useSession } from '../composables/session'

/** What stands above every page: search and acts, what waits, who is on call, halt, the time, and who is signed in. */
defineProps<{ count: number; narrow: boolean; dark: boolean; halted: boolean }>()
const emit = defineEmits<{ menu: []; search: []; halt: []; turn: []; keys: []; leave: [] }>()
const session = useSession()
const live = useLive()
const now = useClock()
const onCall = useOnCall()
const time = computed(() => clockTime(new Date(now.value).toISOString()))
const me = computed(() => session.me?.name ?? '')
/** Two teams have room: mine first, then those where nobody is. */
const duties = computed(() => {
  const rank = (t: (typeof list)[number]) => (t.who === 'you' ? 0 : t.who ? 2 : 1)
  const list = (onCall.data.value ?? [])
    .filter((t) => t.duties.length)
    .map((t) => {
      const who = t.duties[0]?.person ?? ''
      return { team: t.title || t.team, who: who === me.value ? 'you' : who }
    })
  return { shown: [...list].sort((a, b) => rank(a) - rank(b)).slice(0, 2), more: Math.max(0, list.length - 2) }
})
const mac = /mac/i.test(navigator.platform)
</script>

<template>
  <button v-if="narrow" type="button" class="icon" aria-label="Menu" @click="emit('menu')">
    <svg viewBox="0 0 24 24" width="22" height="22" aria-hidden="true"><path :d="mdiMenu" fill="currentColor" /></svg>
  </button>
  <button
    id="search"
    type="button"
    class="search"
    :aria-label="narrow ? 'Search or act' : undefined"
    @click="emit('search')"
  >
    <svg viewBox="0 0 24 24" width="18" height="18" aria-hidden="true">
      <path :d="mdiMagnify" fill="currentColor" />
    </svg>
    <span v-if="!narrow" class="grow">Search or act</span>
    <kbd v-if="!narrow">{{ mac ? '⌘ K' : 'Ctrl K' }}</kbd>
  </button>
  <router-link
    v-if="count"
    to="/"
    class="waits"
    :aria-label="narrow ? `${count} ${count === 1 ? 'waits' : 'wait'} for you` : undefined"
    ><StateShape name="pennant" /> {{ count
    }}<template v-if="!narrow">&nbsp;{{ count === 1 ? 'waits' : 'wait' }} for you</template></router-link
  >
  <span v-if="!live.connected" role="status" class="lost"
    ><StateShape name="unsure" /> <template v-if="narrow">lost</template
    ><template v-else>connection lost, trying again</template></span
  >
  <span class="gap" />
  <router-link v-if="!narrow && duties.shown.length" to="/#on-call" class="duty">
    <svg viewBox="0 0 24 24" width="16" height="16" aria-hidden="true">
      <path :d="mdiPhoneInTalkOutline" fill="currentColor" />
    </svg>
    <span class="unseen">On call now:</span>
    <template v-for="(d, i) in duties.shown" :key="d.team"
      ><template v-if="i"> · </template>{{ d.team }}
      <strong :class="{ nobody: !d.who }">{{ d.who || 'nobody' }}</strong></template
    ><template v-if="duties.more"> · {{ duties.more }} more</template>
  </router-link>
  <button
    v-if="session.may('operator')"
    id="halt"
    type="button"
    class="halt"
    :class="{ on: halted }"
    :aria-label="halted ? 'Halted: let changes go on' : 'Halt all changes'"
    @click="emit('halt')"
  >
    <svg viewBox="0 0 24 24" width="16" height="16" aria-hidden="true">
      <path :d="mdiHandBackRightOutline" fill="currentColor" />
    </svg>
    <span :class="{ unseen: narrow }">{{ halted ? 'Halted' : 'Halt' }}</span>
  </button>
  <span v-if="!narrow" class="clock num">{{ time }} {{ zoneShort }}</span>
  <button type="button" class="icon" aria-label="Light or dark" title="Light or dark (d)" @click="emit('turn')">
    <svg viewBox="0 0 24 24" width="20" height="20" aria-hidden="true">
      <path :d="dark ? mdiWhiteBalanceSunny : mdiWeatherNight" fill="currentColor" />
    </svg>
  </button>
  <v-menu>
    <template #activator="{ props: menu }">
      <button id="me" type="button" class="me" v-bind="menu" :aria-label="narrow ? `${me}: account` : undefined">
        <span class="letter" aria-hidden="true">{{ me.charAt(0).toUpperCase() }}</span><span v-if="!narrow">{{
          me
        }}</span>
      </button>
    </template>
    <v-list density="compact" class="account">
      <v-list-item to="/me" title="How you are reached" />
      <v-list-item title="Keys" @click="emit('keys')" />
      <v-list-item id="sign-out" title="Sign out" @click="emit('leave')" />
    </v-list>
  </v-menu>
</template>

<style scoped>
.search {
  flex: 1;
  max-width: 280px;
  height: 32px;
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 0 8px;
  border: 0;
  border-radius: 4px;
  background: rgba(var(--v-theme-on-surface), 0.06);
  color: rgba(var(--v-theme-on-surface), 0.74);
  font: inherit;
  cursor: pointer;
}
.grow {
  flex: 1;
  text-align: left;
}
kbd {
  font: 11px/16px var(--mono);
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  border-radius: 3px;
  padding: 0 4px;
}
.waits {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  height: 32px;
  padding: 0 12px;
  border-radius: 4px;
  background: rgba(var(--v-theme-warning), 0.13);
  color: rgb(var(--v-theme-warning));
  font-weight: 650;
  text-decoration: none;
  white-space: nowrap;
}
.lost {
  color: rgb(var(--v-theme-warning));
  white-space: nowrap;
}
.gap {
  flex: 1;
}
.duty {
  color: rgba(var(--v-theme-on-surface), 0.74);
  text-decoration: none;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  min-width: 0;
}
.duty svg {
  vertical-align: -3px;
}
.duty strong {
  color: rgb(var(--v-theme-on-surface));
  font-weight: 650;
}
.duty .nobody {
  color: rgb(var(--v-theme-warning));
}
.halt {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  height: 32px;
  padding: 0 12px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.5);
  border-radius: 4px;
  background: rgb(var(--v-theme-surface));
  color: inherit;
  font: inherit;
  font-weight: 600;
  cursor: pointer;
  white-space: nowrap;
}
.halt.on {
  background: repeating-linear-gradient(-45deg, transparent 0 6px, rgba(var(--v-theme-on-surface), 0.16) 6px 9px);
}
.clock {
  font-weight: 600;
  white-space: nowrap;
}
.icon {
  display: inline-grid;
  place-items: center;
  width: 32px;
  height: 32px;
  flex: none;
  border: 0;
  border-radius: 4px;
  background: none;
  color: inherit;
  cursor: pointer;
}
.me {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  min-height: 32px;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  font-weight: 600;
  cursor: pointer;
}
.letter {
  display: inline-grid;
  place-items: center;
  width: 24px;
  height: 24px;
  border-radius: 4px;
  background: rgba(var(--v-theme-primary), 0.14);
  color: rgb(var(--v-theme-primary));
  font-size: 12px;
  font-weight: 700;
}
.unseen {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
@media (max-width: 959px) {
  .search {
    flex: none;
    width: 44px;
    height: 44px;
    justify-content: center;
  }
  .icon,
  .halt,
  .waits {
    min-width: 44px;
    height: 44px;
    justify-content: center;
  }
  .waits,
  .halt {
    padding: 0 8px;
  }
  .me {
    min-height: 44px;
    min-width: 32px;
  }
}
</style>
