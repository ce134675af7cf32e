/** One line of a shape in a box of 14 by 14: filled, or drawn with a width; `out` is cut out of what lies below it. */
export interface Stroke {
  d: string
  width?: number
  dash?: string
  out?: boolean
}

const disc: Stroke = { d: 'M7 .4a6.6 6.6 0 1 0 0 13.2A6.6 6.6 0 0 0 7 .4z' }
const pole: Stroke = { d: 'M2 .5h1.8V14H2z' }

/** Each state has a shape of its own, which no control has. */
export const shapes = {
  octagon: [{ d: 'M4.2.5h5.6l3.7 3.7v5.6l-3.7 3.7H4.2L.5 9.8V4.2z' }],
  triangle: [{ d: 'M7 1 13.5 13H.5z' }],
  'triangle-hollow': [{ d: 'M7 2.2 12.4 12H1.6z', width: 1.7 }],
  diamond: [{ d: 'M7 1.6 12.4 7 7 12.4 1.6 7z', width: 1.7 }],
  pennant: [pole, { d: 'M4.6 1 13.6 4.8 4.6 8.6z' }],
  'pennant-hollow': [pole, { d: 'M4.4 1.8 12 4.8 4.4 7.8', width: 1.6 }],
  waves: [{ d: 'M1 5.2c2-2.6 4-2.6 6 0s4 2.6 6 0M1 10c2-2.6 4-2.6 6 0s4 2.6 6 0', width: 2 }],
  'disc-tick': [disc, { d: 'm3.6 7.3 2.3 2.3 4.4-4.9', width: 1.7, out: true }],
  'disc-wave': [disc, { d: 'M3 7.6c1.3-1.9 2.7-1.9 4 0s2.7 1.9 4 0', width: 1.7, out: true }],
  'disc-bar': [disc, { d: 'M3.6 7h6.8', width: 1.7, out: true }],
  'disc-arrow': [disc, { d: 'M3.4 7h6.4M7.2 4.4 9.8 7 7.2 9.6', width: 1.6, out: true }],
  'disc-mark': [disc, { d: 'M7 3v4.8M7 9.6v1.6', width: 1.8, out: true }],
  disc: [disc],
  hatch: [
    { d: 'M.5 1.5h13v11H.5z', width: 1 },
    { d: 'm.5 8 6.5-6.5M2 12.5 13 1.5M7.5 12.5l6-6', width: 1.8 },
  ],
  unsure: [{ d: 'M7 1.3 12.7 7 7 12.7 1.3 7z', width: 1.7, dash: '2.6 1.8' }],
  'no-undo': [{ d: 'M2 1.5v11M4.5 7h8M9 3.5 12.5 7 9 10.5', width: 1.9 }],
  undo: [{ d: 'M5.2 1.8 2 5l3.2 3.2M2.4 5h6a3.6 3.6 0 0 1 0 7.2H5', width: 1.7 }],
  tick: [{ d: 'm1.5 7.5 3.7 3.7L12.5 3', width: 2 }],
  cross: [{ d: 'M2.5 2.5 11.5 11.5M11.5 2.5 2.5 11.5', width: 2 }],
  dash: [{ d: 'M3 7h8', width: 1.6 }],
  ring: [{ d: 'M7 2.2a4.8 4.8 0 1 0 0 9.6 4.8 4.8 0 0 0 0-9.6z', width: 1.6 }],
  arrow: [{ d: 'M1 7h11M8.5 3.5 12 7l-3.5 3.5', width: 1.6 }],
} satisfies Record<string, Stroke[]>

export type ShapeName = keyof typeof shapes
