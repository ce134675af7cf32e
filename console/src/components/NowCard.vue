<script setup lang="ts">
import ActButton from './ActButton.vue'
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { misses, short } from '../composables/chart'
import { exact, relative, useClock } from '../composables/clock'
import { andList } from '../composables/list'
import { useStanding } from '../composables/data'
import type { Waiting } from '../composables/waits'
import { placeOf } from '../composables/waits'
import MiniLine from './MiniLine.vue'
import StateWord from './StateWord.vue'

/** One incident that waits for somebody: whom it harms, how bad it is now, what is asked, and when it expires. */
const props = defineProps<{
  incident?: Schemas['Incident']
  waits?: Waiting
  escalation?: Schemas['Escalation']
  me: string
  may: boolean
  busy?: boolean
}>()
const emit = defineEmits<{ take: [] }>()
const now = useClock()
const standing = useStanding(
  () => props.incident?.number ?? props.waits?.incident ?? 0,
  () => Boolean(props.incident),
)
const s = computed(() => (props.incident ? standing.data.value : undefined))
const r = computed(() => s.value?.reading)
const next = computed(() => props.escalation?.later?.[0])
const to = computed(() => (props.waits ? placeOf(props.waits) : `/incidents/${props.incident?.number}`))
const button = computed(() => (props.waits?.kind === 'answer' ? 'Answer' : 'Review the change'))
</script>

<template>
  <article class="card" :class="{ mine: waits }">
    <header>
      <StateWord v-if="incident" :state="incident.severity" />
      <span class="faint">
        <template v-if="incident">Incident {{ incident.number }} · {{ incident.service || 'no service' }}</template
        ><template v-else>Run without an incident</template>
      </span>
      <span v-if="waits" class="due"
        >expires <b class="num" :title="exact(waits.until)">{{ relative(waits.until, now) }}</b></span
      >
      <span v-else-if="next" class="due"
        >escalates to <b>{{ andList(next.people) }}</b>
        <b class="num soon" :title="exact(next.at)">&nbsp;{{ relative(next.at, now) }}</b></span
      >
    </header>
    <div class="body">
      <div>
        <h3>
          <router-link :to="to">{{ s?.harm || incident?.title || waits?.title }}</router-link>
        </h3>
        <p v-if="s && !s.harm" class="unstated">
          Harm not stated<template v-if="s.owner"> by {{ s.owner }}</template
          >.
        </p>
        <p v-if="r">
          {{ r.name }}<template v-if="r.target"> on {{ r.target }}</template> &#32;<b
            :class="{ bad: misses(r.value, r.limit) }"
            >{{ short(r.value) }} {{ r.unit }}</b
          >, {{ r.old ? 'old: ' : '' }}{{ relative(r.at, now)
          }}<template v-if="r.limit">; target {{ r.limit.op }} {{ short(r.limit.value ?? 0) }}</template
          ><template v-if="r.trend">; {{ r.trend === 'steady' ? 'steady' : r.slope }}</template
          >.
        </p>
        <p v-else-if="s" class="faint">{{ incident?.title }}</p>
        <p v-if="waits" class="faint">{{ waits.kind === 'approval' ? 'Asks to: ' : 'Asks: ' }}{{ waits.title }}</p>
      </div>
      <MiniLine v-if="r" :reading="r" class="wide" />
    </div>
    <footer>
      <v-btn v-if="waits" color="primary" variant="flat" size="small" :to="to">{{ button }}</v-btn>
      <ActButton v-else-if="may" class="take" size="small" :loading="busy" @click="emit('take')">Take</ActButton>
      <router-link v-if="!waits" :to="to">Open</router-link>
      <span class="faint">{{
        incident?.holder ? `owner ${incident.holder === me ? 'you' : incident.holder}` : 'no owner'
      }}</span>
      <StateWord
        class="at-end"
        :state="
          waits
            ? waits.kind
            : incident?.waiting_on && incident.waiting_on !== 'nobody'
              ? incident.waiting_on
              : 'unclaimed'
        "
      />
    </footer>
  </article>
</template>

<style scoped>
.card {
  padding: 12px 16px 14px;
  margin-bottom: 8px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 6px;
}
.mine {
  border-left: 6px solid rgb(var(--v-theme-warning));
  padding-left: 11px;
}
header,
footer {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  align-items: center;
  font-size: 13px;
}
footer {
  margin-top: 8px;
}
.due,
.at-end {
  margin-left: auto;
}
.soon,
.unstated {
  color: rgb(var(--v-theme-warning));
}
.body {
  display: flex;
  gap: 24px;
  justify-content: space-between;
}
.body > div {
  min-width: 0;
  overflow-wrap: anywhere;
}
h3 {
  font-size: 16px;
  line-height: 24px;
  margin-top: 4px;
}
h3 a {
  color: inherit;
  text-decoration: none;
}
h3 a:hover {
  text-decoration: underline;
}
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
