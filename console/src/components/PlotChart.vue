<script setup lang="ts">
import 'uplot/dist/uPlot.min.css'

import { useElementSize } from '@vueuse/core'
import uPlot from 'uplot'
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useTheme } from 'vuetify'

import {
  aligned,
  apart,
  misses,
  scaleOf,
  short,
  slices,
  spread,
  type Limit,
  type Line,
  type Mark,
} from '../composables/chart'

/**
 * Numbers over time, a line for each target: the limit dashed and named, gaps per line, what was lowest and highest as
 * a band, what happened as upright lines. It is read by eye, by keys (arrows along a line and from line to line), and
 * as a table.
 */
const props = defineProps<{
  lines: Line[]
  from: number
  until: number
  unit?: string
  limit?: Limit
  marks?: Mark[]
  height?: number
  /** What it shows, for those who do not see it. */
  says: string
}>()

const theme = useTheme()
const box = ref<HTMLElement>()
const { width } = useElementSize(box, { width: 480, height: 140 })
let chart: uPlot | undefined

const dark = computed(() => theme.global.current.value.dark)
const color = (name: 'error' | 'primary' | 'on-surface') => String(theme.global.current.value.colors[name])
const faded = (c: string, alpha: number) =>
  `${c}${Math.round(alpha * 255)
    .toString(16)
    .padStart(2, '0')}`
const table = computed(() => aligned(props.lines))
const scale = computed(() => scaleOf(props.lines, props.limit))
const bands = computed(() => props.lines.map(spread))
const shape = computed(
  () => props.lines.map((l, i) => `${l.name} ${l.strong} ${bands.value[i]}`).join() + props.limit?.op,
)
const named = computed(() => props.lines.filter((l) => l.strong).slice(0, 3))
const data = computed(
  () =>
    [
      table.value.times,
      ...table.value.columns.flatMap((c, i) => (bands.value[i] ? [c.last, c.low, c.high] : [c.last])),
    ] as uPlot.AlignedData,
)

/** A line is red where it misses the limit, and teal where it does not. */
function stroke(u: uPlot, strong: boolean): CanvasGradient | string {
  const fine = faded(color('primary'), strong ? 1 : 0.55)
  const bad = faded(color('error'), strong ? 1 : 0.6)
  const limit = props.limit?.value
  if (limit === undefined || !['<', '<=', '>', '>='].includes(props.limit?.op ?? '')) return fine
  const { top, height } = u.bbox
  const at = Math.min(1, Math.max(0, (u.valToPos(limit, 'y', true) - top) / height))
  if (!Number.isFinite(at) || height <= 0) return fine
  const above = props.limit?.op.startsWith('<') ? bad : fine
  const below = above === bad ? fine : bad
  const g = u.ctx.createLinearGradient(0, top, 0, top + height)
  g.addColorStop(0, above)
  g.addColorStop(at, above)
  g.addColorStop(at, below)
  g.addColorStop(1, below)
  return g
}

function over(u: uPlot) {
  const { ctx, bbox } = u
  const dpr = devicePixelRatio
  const ink = color('on-surface')
  ctx.save()
  ctx.lineWidth = dpr
  ctx.textAlign = 'left'
  ctx.font = `600 ${11 * dpr}px "Inter Variable", system-ui, sans-serif`
  ctx.textBaseline = 'bottom'
  const limit = props.limit?.value
  if (limit !== undefined) {
    const words = `limit ${short(limit)}${props.unit ? ` ${props.unit}` : ''}`
    ctx.fillStyle = ink
    if (scale.value.beyond) {
      const up = scale.value.beyond === 'above'
      ctx.textBaseline = up ? 'top' : 'bottom'
      ctx.fillText(
        `${up ? '↑' : '↓'} ${words}`,
        bbox.left + 4 * dpr,
        up ? bbox.top + 2 * dpr : bbox.top + bbox.height - 2 * dpr,
      )
    } else {
      const y = Math.round(u.valToPos(limit, 'y', true))
      ctx.strokeStyle = ink
      ctx.setLineDash([5 * dpr, 3 * dpr])
      ctx.beginPath()
      ctx.moveTo(bbox.left, y)
      ctx.lineTo(bbox.left + bbox.width, y)
      ctx.stroke()
      ctx.fillText(words, bbox.left + 4 * dpr, y - 2 * dpr)
    }
  }
  ctx.textBaseline = 'bottom'
  ctx.font = `${11 * dpr}px "Inter Variable", system-ui, sans-serif`
  let free = -Infinity
  for (const m of [...(props.marks ?? [])].sort((a, b) => a.at.localeCompare(b.at))) {
    const x = Math.round(u.valToPos(Date.parse(m.at) / 1000, 'x', true))
    if (x < bbox.left || x > bbox.left + bbox.width) continue
    ctx.strokeStyle = faded(ink, m.what === 'incident' || m.label ? 0.75 : 0.45)
    ctx.setLineDash([1.5 * dpr, 2.5 * dpr])
    ctx.beginPath()
    ctx.moveTo(x, bbox.top)
    ctx.lineTo(x, bbox.top + bbox.height)
    ctx.stroke()
    if (!m.label) continue
    const w = ctx.measureText(m.label).width
    const left = Math.min(Math.max(bbox.left, x - w / 2), bbox.left + bbox.width - w)
    if (left < free) continue
    ctx.fillStyle = faded(ink, 0.8)
    ctx.fillText(m.label, left, bbox.top - 2 * dpr)
    free = left + w + 6 * dpr
  }
  ctx.textBaseline = 'middle'
  ctx.font = `650 ${11 * dpr}px "Inter Variable", system-ui, sans-serif`
  const ends = named.value
    .flatMap((l) => {
      const p = l.points.filter((x) => x.value !== undefined).at(-1)
      if (p?.value === undefined) return []
      return [{ l, value: p.value, at: p.at, y: u.valToPos(p.value, 'y', true) }]
    })
    .sort((a, b) => b.value - a.value)
  // Names stand beside their ends, one below the other, and none below the picture.
  const places = apart(
    ends.map((e) => e.y),
    12 * dpr,
    bbox.top + bbox.height,
  )
  ends.forEach((e, i) => {
    ctx.fillStyle = misses(e.value, props.limit) ? color('error') : color('primary')
    const x = u.valToPos(Date.parse(e.at) / 1000, 'x', true)
    ctx.beginPath()
    ctx.arc(x, e.y, 2.5 * dpr, 0, 7)
    ctx.fill()
    ctx.fillText(`${e.l.name ? `${e.l.name} ` : ''}${short(e.value)}`, x + 6 * dpr, places[i] ?? e.y)
  })
  ctx.restore()
}

const two = (n: number) => String(n).padStart(2, '0')
/** Times as people here read them: the hour, seconds where it is short, and at midnight the day. */
const clock = (_: uPlot, at: number[]) => {
  const fine = at.length > 1 && (at[1] ?? 0) - (at[0] ?? 0) < 60
  return at.map((t) => {
    const d = new Date(t * 1000)
    return d.getHours() === 0 && d.getMinutes() === 0 && !fine
      ? d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
      : `${two(d.getHours())}:${two(d.getMinutes())}${fine ? `:${two(d.getSeconds())}` : ''}`
  })
}

/** What stands under the pointer, or under the keys, in words. */
const under = ref('')
function tell(i: number | null | undefined) {
  const at = i === null || i === undefined ? undefined : table.value.times[i]
  if (at === undefined) {
    under.value = ''
    return
  }
  const values = props.lines
    .map((l, n) => [l.name, table.value.columns[n]?.last[i ?? 0]] as const)
    .filter(([, v]) => v !== null && v !== undefined)
    .slice(0, 6)
    .map(([name, v]) => `${name ? `${name} ` : ''}${short(v as number)}`)
  under.value = `${new Date(at * 1000).toLocaleTimeString('en-GB')}  ${values.length ? `${values.join(', ')} ${props.unit ?? ''}` : 'not read'}`
}

function draw() {
  chart?.destroy()
  if (!box.value || width.value < 60) return
  const ink = color('on-surface')
  const axis: uPlot.Axis = {
    stroke: faded(ink, 0.75),
    font: '11px "Inter Variable", system-ui, sans-serif',
    grid: { stroke: faded(ink, 0.1), width: 1 },
    ticks: { show: false },
  }
  const series: uPlot.Series[] = [{}]
  const fills: uPlot.Band[] = []
  props.lines.forEach((l, i) => {
    series.push({
      label: l.name,
      stroke: (u) => stroke(u, Boolean(l.strong)),
      width: l.strong ? 2 : 1.2,
      points: { show: l.points.filter((p) => p.value !== undefined).length < 3, size: 5 },
    })
    if (!bands.value[i]) return
    series.push({ stroke: 'transparent', points: { show: false } }, { stroke: 'transparent', points: { show: false } })
    fills.push({
      series: [series.length - 1, series.length - 2],
      fill: faded(color('primary'), dark.value ? 0.3 : 0.18),
    })
  })
  const ends = Math.max(0, ...named.value.map((l) => l.name.length)) * 6.2 + 44
  chart = new uPlot(
    {
      width: width.value,
      height: props.height ?? 140,
      padding: [
        props.marks?.some((m) => m.label) ? 16 : 8,
        named.value.length ? Math.min(ends, width.value / 3) : 8,
        0,
        0,
      ],
      legend: { show: false },
      cursor: { drag: { x: false, y: false }, points: { size: 5 } },
      scales: {
        x: { time: true, range: () => [props.from / 1000, Math.max(props.from + 1000, props.until) / 1000] },
        y: { range: () => [scale.value.min, scale.value.max] },
      },
      axes: [
        { ...axis, size: 24, values: clock, space: 60 },
        { ...axis, size: 46, space: 30 },
      ],
      series,
      bands: fills,
      hooks: { draw: [over], setCursor: [(u) => tell(u.cursor.idx)] },
    },
    data.value,
    box.value,
  )
}

// What comes in moves the lines; only another look of them draws the chart anew.
watch([width, dark, shape], draw, { flush: 'post', immediate: true })
watch(
  [data, () => props.from, () => props.until, () => props.marks, () => props.limit?.value],
  () => {
    if (chart && data.value.length === chart.series.length) chart.setData(data.value)
    else draw()
  },
  { flush: 'post' },
)
onBeforeUnmount(() => chart?.destroy())

const at = ref(-1)
function along(by: number) {
  const n = table.value.times.length
  if (!n) return
  at.value = Math.min(n - 1, Math.max(0, (at.value < 0 ? n : at.value) + by))
  chart?.setCursor({ left: chart.valToPos(table.value.times[at.value] ?? 0, 'x'), top: 20 })
  tell(at.value)
}
const asTable = ref(false)
const rows = computed(() => (asTable.value ? slices(props.lines, props.from, props.until) : []))
</script>

<template>
  <figure class="chart">
    <!-- A picture that can be walked along: its keys are said in its name. -->
    <!-- eslint-disable-next-line vuejs-accessibility/no-static-element-interactions -->
    <div
      ref="box"
      role="img"
      tabindex="0"
      :aria-label="says"
      @keydown.left.prevent="along(-1)"
      @keydown.right.prevent="along(1)"
      @blur="at = -1"
    />
    <div class="foot">
      <slot />
      <span class="under num" aria-live="polite">{{ under }}</span>
      <button type="button" class="as" :aria-expanded="asTable" @click="asTable = !asTable">
        {{ asTable ? 'Hide the table' : 'As a table' }}
      </button>
    </div>
    <div v-if="asTable" class="rows" tabindex="0" role="region" :aria-label="`${says}, as a table`">
      <table class="plain">
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th v-for="l in lines" :key="l.name" scope="col">{{ l.name || 'value' }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rows" :key="r.at">
            <th scope="row" class="num">{{ new Date(r.at).toLocaleTimeString('en-GB') }}</th>
            <td v-for="(c, i) in r.cells" :key="i" class="num">{{ c }}</td>
          </tr>
          <tr v-if="!rows.length">
            <td>Nothing was read in this time.</td>
          </tr>
        </tbody>
      </table>
    </div>
  </figure>
</template>

<style scoped>
.chart {
  width: 100%;
  min-width: 0;
  margin: 0;
  overflow: hidden;
}
.foot {
  display: flex;
  gap: 8px;
  align-items: center;
  min-height: 24px;
  font-size: 11.5px;
}
.under {
  flex: 1;
  min-width: 0;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
.as {
  min-height: 24px;
  border: 0;
  background: none;
  color: rgb(var(--v-theme-primary));
  font: inherit;
  cursor: pointer;
}
.rows {
  max-height: 220px;
  overflow: auto;
}
</style>
