import type { ShapeName } from './shapes'

/** How a state looks: a word, a shape, and only then a colour. */
export interface Look {
  word: string
  shape: ShapeName
  color: string
}

const quiet = 'rgb(var(--v-theme-on-surface))'
const amber = 'rgb(var(--v-theme-warning))'
const red = 'rgb(var(--v-theme-error))'
const green = 'rgb(var(--v-theme-success))'
const blue = 'rgb(var(--v-theme-info))'

const looks: Record<string, Look> = {
  running: { word: 'running', shape: 'waves', color: blue },
  going: { word: 'going on', shape: 'waves', color: blue },
  waiting: { word: 'waiting', shape: 'pennant', color: amber },
  approval: { word: 'waits for approval', shape: 'pennant', color: amber },
  halt: { word: 'waits until changes go on', shape: 'hatch', color: amber },
  held: { word: 'not begun: halted', shape: 'hatch', color: amber },
  answer: { word: 'waits for an answer', shape: 'pennant', color: amber },
  quarantined: { word: 'quarantined, waits for a person', shape: 'pennant', color: amber },
  person: { word: 'waits for a person', shape: 'pennant', color: amber },
  unclaimed: { word: 'unclaimed', shape: 'pennant-hollow', color: amber },
  'handed-over': { word: 'handed over', shape: 'disc-arrow', color: amber },
  unsure: { word: 'unsure', shape: 'unsure', color: amber },
  unknown: { word: 'unknown', shape: 'unsure', color: amber },
  open: { word: 'open', shape: 'waves', color: quiet },
  closed: { word: 'closed', shape: 'disc', color: quiet },
  done: { word: 'done', shape: 'tick', color: quiet },
  cancelled: { word: 'cancelled', shape: 'disc-bar', color: quiet },
  failed: { word: 'failed', shape: 'cross', color: red },
  critical: { word: 'critical', shape: 'octagon', color: red },
  major: { word: 'major', shape: 'triangle', color: red },
  minor: { word: 'minor', shape: 'triangle-hollow', color: quiet },
  warning: { word: 'warning', shape: 'diamond', color: quiet },
  cleared: { word: 'cleared', shape: 'disc-tick', color: quiet },
  repaired: { word: 'repaired', shape: 'disc-tick', color: green },
  'repaired-by-hand': { word: 'repaired by hand', shape: 'disc-tick', color: green },
  mitigated: { word: 'mitigated', shape: 'disc-wave', color: quiet },
  'false-alarm': { word: 'false alarm', shape: 'disc-bar', color: quiet },
  'cleared-itself': { word: 'cleared itself', shape: 'disc-bar', color: quiet },
  'not-repaired': { word: 'not repaired', shape: 'disc-mark', color: red },
}

export const look = (state: string): Look => looks[state] ?? { word: state, shape: 'dash', color: quiet }
