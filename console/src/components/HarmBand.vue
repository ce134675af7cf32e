<script setup lang="ts">
import ActButton from './ActButton.vue'
import { mdiRefresh } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { misses, short, type Mark } from '../composables/chart'
import { clockTime, exact, relative, span, useClock } from '../composables/clock'
import { PlotChart } from './lazy'

/** Whom an incident harms, and how bad it is now: its leading reading with its age, where it goes, and since when. */
const props = defineProps<{
  standing: Schemas['Standing']
  closed: boolean
  marks: Mark[]
  /** Whether the reading can be taken again from here. */
  again: boolean
  busy: boolean
  wrong?: string
  /** Somebody is asked below: on a phone the picture leaves its room to what is asked. */
  asked?: boolean
}>()
const emit = defineEmits<{ again: [look: Schemas['NewLook']] }>()
const now = useClock()
const r = computed(() => props.standing.reading)
const bad = computed(() => Boolean(r.value && misses(r.value.value, r.value.limit)))
const unit = computed(() => (r.value?.unit ? ` ${r.value.unit}` : ''))
const values = computed(() => {
  const x = r.value
  if (!x) return ''
  return [
    x.limit ? `target ${x.limit.op} ${short(x.limit.value ?? 0)}` : '',
    x.then ? `${short(x.then.value)} at the alert` : 'not read at the alert',
  ]
    .filter(Boolean)
    .join('; ')
})
const goes = computed(() => {
  const x = r.value
  if (!x) return undefined
  if (!x.trend) return { word: 'Trend', value: 'not known', below: 'read too few times' }
  const over = `over ${span((x.slope_seconds ?? 0) * 1000)}`
  if (x.trend === 'steady') return { word: 'Trend', value: 'steady', below: over }
  return { word: x.trend.charAt(0).toUpperCase() + x.trend.slice(1), value: x.slope ?? '', below: over }
})
const lines = computed(() =>
  (r.value?.lines ?? []).map((l, i) => ({ name: l.target, points: l.points, strong: i < 3 })),
)
const says = computed(() => {
  const x = r.value
  if (!x) return ''
  return `${x.look ? `${x.look}: ` : ''}${x.name} of ${x.of} ${x.of === 1 ? 'target' : 'targets'}, ${clockTime(x.from)} to ${clockTime(x.until)}; ${x.says}`
})
const aged = computed(() => {
  const words = relative(r.value?.at ?? '', now.value)
  return words === 'now' ? 'just read' : words
})
/** The picture begins where something was read. */
const from = computed(() => {
  const begin = Date.parse(r.value?.from ?? '')
  const first = Math.min(...lines.value.flatMap((l) => l.points.slice(0, 1).map((p) => Date.parse(p.at))))
  return Math.max(begin, first - Math.max(10_000, (until.value - first) * 0.05))
})
const until = computed(() => (props.closed ? Date.parse(r.value?.until ?? '') : now.value))
</script>

<template>
  <section class="band" :class="{ unstated: !standing.harm, calm: closed }" aria-label="Harm">
    <div class="words">
      <p v-if="standing.harm" class="harm">{{ standing.harm }}</p>
      <p v-else class="harm none">
        Harm: not stated by the author<template v-if="standing.owner"> ({{ standing.owner }})</template>
      </p>
      <dl v-if="r" class="facts reading">
        <div>
          <dt>
            {{ r.name }}<template v-if="r.target"> on {{ r.target }}</template> {{ closed ? 'last' : 'now' }},
            <span :title="exact(r.at)" :class="{ old: r.old }">{{ aged }}</span><strong v-if="r.old" class="old-word"
              >&nbsp;old</strong
            >
          </dt>
          <dd :class="{ bad }">{{ short(r.value) }}{{ unit }}</dd>
          <dd>{{ values }}</dd>
        </div>
        <div v-if="goes && !closed">
          <dt>{{ goes.word }}</dt>
          <dd>{{ goes.value }}</dd>
          <dd>{{ goes.below }}</dd>
        </div>
        <div v-if="r.beyond && !closed">
          <dt>Misses the target for</dt>
          <dd>{{ span(now - Date.parse(r.beyond)) }}</dd>
          <dd>
            since {{ clockTime(r.beyond) }}<template v-if="r.of > 1">; {{ r.bad }} of {{ r.of }} targets</template>
          </dd>
        </div>
      </dl>
      <p v-else class="reading none">How bad it is now is not known: no reading of it tells.</p>
      <p v-for="d in standing.derived" :key="d" class="derived" :class="{ asked }">{{ d }}</p>
    </div>
    <PlotChart
      v-if="r && lines.some((l) => l.points.length)"
      class="picture"
      :class="{ asked }"
      :lines="lines"
      :from="from"
      :until="until"
      :unit="r.unit"
      :limit="r.limit"
      :marks="marks"
      :height="136"
      :says="says"
    >
      <ActButton
        v-if="r.step && again && !closed"
        class="re"
        size="small"
        variant="text"
        color="primary"
        :loading="busy"
        @click="emit('again', { step: r.step, run: r.run })"
      >
        <svg viewBox="0 0 24 24" width="16" height="16" aria-hidden="true">
          <path :d="mdiRefresh" fill="currentColor" />
        </svg>
        &nbsp;Re-read {{ r.of }} {{ r.of === 1 ? 'target' : 'targets' }}
      </ActButton>
      <span v-if="wrong" role="alert" class="wrong">{{ wrong }}</span>
    </PlotChart>
  </section>
</template>

<style scoped>
.band {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 8px 24px;
  padding: 12px 16px 8px 14px;
  margin-bottom: 12px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-left: 6px solid rgb(var(--v-theme-error));
  border-radius: 6px;
}
.band.unstated {
  border-left-color: rgb(var(--v-theme-warning));
}
.band.calm {
  border-left-color: rgba(var(--v-theme-on-surface), 0.3);
}
.harm {
  font-size: 26px;
  line-height: 32px;
  font-weight: 680;
  letter-spacing: -0.018em;
  overflow-wrap: anywhere;
}
.harm.none {
  font-size: 18px;
  line-height: 26px;
  color: rgb(var(--v-theme-warning));
}
.reading.none {
  color: rgb(var(--v-theme-warning));
  margin-top: 6px;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 28px;
  margin-top: 8px;
}
.facts > div {
  min-width: 0;
}
dt {
  font-size: 12px;
  line-height: 16px;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
dd {
  margin: 0;
  font-size: 20px;
  line-height: 26px;
  font-weight: 660;
  letter-spacing: -0.01em;
  overflow-wrap: anywhere;
}
dd + dd {
  font-size: 12px;
  line-height: 16px;
  font-weight: 400;
  letter-spacing: 0;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
.bad {
  color: rgb(var(--v-theme-error));
}
.old {
  text-decoration: underline dashed;
  text-underline-offset: 3px;
}
.old-word {
  color: rgb(var(--v-theme-warning));
}
.derived {
  margin-top: 6px;
  font-size: 13px;
  line-height: 18px;
}
@media (max-width: 1099px) {
  .band {
    grid-template-columns: minmax(0, 1fr);
  }
}
@media (max-width: 700px) {
  .band {
    gap: 0;
    padding: 6px 12px 4px 8px;
    margin-bottom: 6px;
  }
  .harm,
  .harm.none {
    font-size: 18px;
    line-height: 23px;
  }
  .facts {
    gap: 2px 16px;
    margin-top: 4px;
  }
  dd {
    font-size: 16px;
    line-height: 20px;
  }
  .picture.asked,
  .derived.asked {
    display: none;
  }
  /* A line for each, in the room of a phone. */
  .facts > div {
    flex: 1 1 100%;
    font-size: 12.5px;
    line-height: 17px;
  }
  .facts {
    gap: 0;
  }
  dt,
  dd,
  dd + dd {
    display: inline;
    font-size: 12.5px;
    line-height: 17px;
    margin-right: 5px;
  }
  dd {
    font-weight: 700;
  }
  .derived {
    margin-top: 2px;
    font-size: 12.5px;
    line-height: 16px;
  }
}
</style>
