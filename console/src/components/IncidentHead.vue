<script setup lang="ts">
import ActButton from './ActButton.vue'
import { mdiDotsHorizontal } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, span, useClock } from '../composables/clock'
import { useSession } from '../composables/session'
import StateWord from './StateWord.vue'

/** What an incident is: its title, the words of its alert, how bad it is, what it waits for, how long, and who has it. */
const props = defineProps<{
  incident: Schemas['Incident']
  alerts: Schemas['Alert'][]
  busy: boolean
  before: number
}>()
const emit = defineEmits<{ take: []; act: [name: string] }>()
const session = useSession()
const now = useClock()
const i = computed(() => props.incident)
const open = computed(() => i.value.state === 'open')
const mine = computed(() => i.value.holder === session.me?.name)
const first = computed(() => props.alerts[0])
const state = computed(() =>
  open.value
    ? i.value.waiting_on && i.value.waiting_on !== 'nobody'
      ? i.value.waiting_on
      : 'open'
    : (i.value.outcome ?? 'closed'),
)
const took = computed(() =>
  span((i.value.closed_at ? Date.parse(i.value.closed_at) : now.value) - Date.parse(i.value.opened_at)),
)
const acts = computed(() => [
  ...(open.value
    ? [
        { name: 'reassign', title: 'Reassign…' },
        ...(mine.value ? [{ name: 'give-back', title: 'Give back' }] : []),
        { name: 'close', title: 'Close by hand…' },
      ]
    : [{ name: 'reopen', title: 'Open again…' }]),
  { name: 'edit', title: 'Title and severity…' },
  ...(open.value ? [{ name: 'merge', title: 'Make part of another incident…' }] : []),
  ...(open.value && props.alerts.length > 1 ? [{ name: 'split', title: 'Split alerts off…' }] : []),
  { name: 'link', title: 'Add a link…' },
])
</script>

<template>
  <header class="incident-head">
    <div class="names">
      <p class="crumb">
        Incident {{ i.number }} ·
        <router-link v-if="i.service" :to="`/services/${i.service}`">{{ i.service }}</router-link><template v-else
          >no service</template
        >
      </p>
      <h1>{{ i.title }}</h1>
      <p v-if="first" class="alert-words">
        Alert <span :title="exact(first.first_at)" class="num">{{ clockTime(first.first_at) }}</span>,
        <router-link :to="`/alerts/${first.id}`">{{ first.source }}</router-link><template
          v-if="first.summary !== i.title"
          >: “{{ first.summary }}”</template
        ><template v-if="(i.alerts ?? 0) > 1">; {{ i.alerts }} alerts in all</template
        ><template v-if="first.link">
          · <a :href="first.link" target="_blank" rel="noreferrer">at the source</a></template
        >
        ·
        <a :href="`/api/v1/incidents/${i.number}/report?form=html`" target="_blank">report</a>
      </p>
    </div>
    <div class="meta">
      <StateWord :state="i.severity" />
      <StateWord :state="state" />
      <span :title="exact(i.opened_at)"
        >{{ open ? 'open' : 'took' }} <b class="num">{{ took }}</b></span
      >
      <a v-if="before" href="#around">happened {{ before === 1 ? 'once' : `${before} times` }} before</a>
      <router-link v-if="i.merged_into" :to="`/incidents/${i.merged_into}`"
        >part of incident {{ i.merged_into }}</router-link
      >
      <span v-if="i.holder" class="owner"
        >owner <b>{{ mine ? 'you' : i.holder }}</b></span
      >
      <StateWord v-else-if="open" class="unclaimed" state="unclaimed" />
      <ActButton
        v-if="open && !mine && session.may('responder')"
        id="take"
        size="small"
        :loading="busy"
        @click="emit('take')"
        >Take</ActButton
      >
      <v-menu v-if="session.may('responder')">
        <template #activator="{ props: menu }">
          <button id="more" type="button" class="dots" v-bind="menu" aria-label="More acts">
            <svg viewBox="0 0 24 24" width="20" height="20" aria-hidden="true">
              <path :d="mdiDotsHorizontal" fill="currentColor" />
            </svg>
          </button>
        </template>
        <v-list density="compact">
          <v-list-item
            v-for="a in acts"
            :id="`act-${a.name}`"
            :key="a.name"
            :title="a.title"
            @click="emit('act', a.name)"
          />
        </v-list>
      </v-menu>
    </div>
  </header>
</template>

<style scoped>
.incident-head {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 4px 24px;
  align-items: end;
  margin-bottom: 10px;
}
.crumb,
.alert-words {
  font-size: 13px;
  line-height: 20px;
  color: rgba(var(--v-theme-on-surface), 0.76);
  overflow-wrap: anywhere;
}
.meta {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  gap: 4px 16px;
  align-items: center;
  font-size: 13px;
}
.dots {
  display: inline-grid;
  place-items: center;
  width: 32px;
  height: 32px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.4);
  border-radius: 4px;
  background: none;
  color: inherit;
  cursor: pointer;
}
@media (max-width: 1099px) {
  .incident-head {
    grid-template-columns: minmax(0, 1fr);
  }
  .meta {
    justify-content: flex-start;
  }
}
@media (max-width: 700px) {
  .incident-head {
    position: relative;
    gap: 0;
    margin-bottom: 6px;
  }
  .alert-words {
    display: none;
  }
  .meta {
    gap: 0 12px;
  }
  .meta > .unclaimed,
  .meta > #take {
    display: none;
  }
  .dots {
    position: absolute;
    right: 0;
    top: -6px;
    width: 44px;
    height: 44px;
    border: 0;
  }
  .crumb {
    padding-right: 44px;
  }
}
</style>
