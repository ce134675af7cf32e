<script setup lang="ts">
import 'uplot/dist/uPlot.min.css'

import { useElementSize } from '@vueuse/core'
import uPlot from 'uplot'
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useTheme } from 'vuetify'

// Numbers over time, one line for each target, with what happened as upright lines. Where nothing is known is a gap.
interface Line {
  name: string
  points: { at: string; value?: number; low?: number; high?: number }[]
  /** It is to be seen first: the odd one. */
  strong?: boolean
}
interface Mark {
  at: string
  what: string
  title: string
}
const props = defineProps<{
  lines: Line[]
  from: number
  until: number
  unit?: string
  marks?: Mark[]
  /** A level that is drawn across. */
  level?: number
  /** In the room of so many points there is a gap where nothing was read for three of them. */
  points: number
  height?: number
  says: string
}>()

const theme = useTheme()
const box = ref<HTMLElement>()
const { width } = useElementSize(box, { width: 600, height: 140 })
let chart: uPlot | undefined

const ink = computed(() => (theme.global.current.value.dark ? '226,232,236' : '24,34,42'))
const strokes = { deployment: [6, 3], change: [2, 2], undo: [2, 4], incident: [], setting: [1, 4] } as Record<
  string,
  number[]
>

/** All lines on one axis of times, with empty places where a line is silent for long. */
const data = computed<uPlot.AlignedData>(() => {
  const stretch = Math.max(1, (props.until - props.from) / 1000 / props.points)
  const times = new Set<number>()
  for (const l of props.lines) for (const p of l.points) times.add(Date.parse(p.at) / 1000)
  const at = [...times].sort((a, b) => a - b)
  const holes: number[] = []
  for (let i = 1; i < at.length; i++) {
    const [a, b] = [at[i - 1] ?? 0, at[i] ?? 0]
    if (b - a > Math.max(3 * stretch, 90)) holes.push(a + stretch)
  }
  const axis = [...at, ...holes].sort((a, b) => a - b)
  const silent = new Set(holes)
  return [
    axis,
    ...props.lines.map((l) => {
      const by = new Map(l.points.map((p) => [Date.parse(p.at) / 1000, p.value]))
      // undefined is drawn through, null is a gap.
      return axis.map((t) => (silent.has(t) ? null : by.get(t)))
    }),
  ] as uPlot.AlignedData
})

function upright(u: uPlot) {
  const { ctx, bbox } = u
  ctx.save()
  if (props.level !== undefined) {
    const y = Math.round(u.valToPos(props.level, 'y', true))
    ctx.strokeStyle = `rgba(${ink.value},0.55)`
    ctx.setLineDash([5, 4])
    ctx.beginPath()
    ctx.moveTo(bbox.left, y)
    ctx.lineTo(bbox.left + bbox.width, y)
    ctx.stroke()
  }
  for (const m of props.marks ?? []) {
    const x = Math.round(u.valToPos(Date.parse(m.at) / 1000, 'x', true))
    if (x < bbox.left || x > bbox.left + bbox.width) continue
    ctx.strokeStyle = m.what === 'incident' ? `rgba(${ink.value},0.85)` : `rgba(${ink.value},0.45)`
    ctx.setLineDash((strokes[m.what] ?? []).map((n) => n * devicePixelRatio))
    ctx.lineWidth = devicePixelRatio
    ctx.beginPath()
    ctx.moveTo(x, bbox.top)
    ctx.lineTo(x, bbox.top + bbox.height)
    ctx.stroke()
  }
  ctx.restore()
}

const two = (n: number) => String(n).padStart(2, '0')
/** Times as people here read them: the hour, and at midnight, or where only days are told, the day. */
const clock = (_: uPlot, at: number[]) =>
  at.map((t) => {
    const d = new Date(t * 1000)
    return d.getHours() === 0 && d.getMinutes() === 0
      ? d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
      : `${two(d.getHours())}:${two(d.getMinutes())}`
  })

function draw() {
  chart?.destroy()
  if (!box.value) return
  const axis: uPlot.Axis = {
    stroke: `rgba(${ink.value},0.75)`,
    font: '11px "Inter Variable", system-ui, sans-serif',
    grid: { stroke: `rgba(${ink.value},0.09)`, width: 1 },
    ticks: { show: false },
  }
  chart = new uPlot(
    {
      width: Math.max(200, width.value),
      height: props.height ?? 130,
      padding: [8, 6, 0, 0],
      legend: { show: false },
      cursor: { drag: { x: false, y: false }, points: { size: 5 } },
      scales: {
        x: { time: true, range: () => [props.from / 1000, props.until / 1000] },
        y: {
          range: (_, low, high) => {
            const some = [low ?? 0, high ?? 1, ...(props.level === undefined ? [] : [props.level])]
            const top = Math.max(...some)
            const bottom = Math.min(0, ...some)
            return [bottom, top === bottom ? bottom + 1 : top + (top - bottom) * 0.06]
          },
        },
      },
      axes: [
        { ...axis, size: 26, values: clock },
        { ...axis, size: 48 },
      ],
      series: [
        {},
        ...props.lines.map((l): uPlot.Series => ({
          label: l.name,
          stroke: `rgba(${ink.value},${l.strong ? 1 : 0.5})`,
          width: l.strong ? 2 : 1.1,
          points: { show: false },
          spanGaps: false,
        })),
      ],
      hooks: { draw: [upright], setCursor: [pointed] },
    },
    data.value,
    box.value,
  )
}

/** What stands under the pointer, in words. */
const under = ref('')
function pointed(u: uPlot) {
  const i = u.cursor.idx
  if (i === null || i === undefined) {
    under.value = ''
    return
  }
  const at = new Date((u.data[0][i] ?? 0) * 1000).toLocaleTimeString('en-GB')
  const values = props.lines
    .map((l, n) => [l.name, u.data[n + 1]?.[i]] as const)
    .filter(([, v]) => v !== null && v !== undefined)
    .slice(0, 6)
    .map(([name, v]) => `${name ? name + ' ' : ''}${+(v as number).toPrecision(5)}`)
  under.value = values.length ? `${at}  ${values.join(', ')} ${props.unit ?? ''}` : ''
}

watch([data, width, ink, () => props.marks, () => props.from], draw, { flush: 'post' })
onBeforeUnmount(() => chart?.destroy())
</script>

<template>
  <div class="chart">
    <div ref="box" role="img" :aria-label="says" />
    <div class="under faint num" aria-hidden="true">{{ under }}&nbsp;</div>
  </div>
</template>

<style scoped>
.chart {
  width: 100%;
  min-width: 0;
  overflow: hidden;
}
.under {
  font-size: 11.5px;
  line-height: 1.3;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
