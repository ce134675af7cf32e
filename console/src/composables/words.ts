/** How a state looks: a word, a shape, and only then a colour. */
export interface Look {
  word: string
  shape: string
  color: string
}

const quiet = 'rgb(var(--v-theme-on-surface))'
const amber = 'rgb(var(--v-theme-warning))'
const red = 'rgb(var(--v-theme-error))'
const green = 'rgb(var(--v-theme-success))'
const blue = 'rgb(var(--v-theme-info))'

const looks: Record<string, Look> = {
  running: { word: 'running', shape: '▸', color: blue },
  going: { word: 'going on', shape: '▸', color: blue },
  waiting: { word: 'waiting', shape: '◐', color: amber },
  approval: { word: 'waits for approval', shape: '◐', color: amber },
  halt: { word: 'waits until changes go on', shape: '◐', color: amber },
  held: { word: 'not begun: halted', shape: '◇', color: amber },
  answer: { word: 'waits for an answer', shape: '◐', color: amber },
  quarantined: { word: 'quarantined, waits for a person', shape: '◐', color: amber },
  person: { word: 'waits for a person', shape: '◐', color: amber },
  'handed-over': { word: 'handed over', shape: '◐', color: amber },
  unsure: { word: 'unsure', shape: '◇', color: amber },
  unknown: { word: 'unknown', shape: '◇', color: amber },
  open: { word: 'open', shape: '○', color: quiet },
  closed: { word: 'closed', shape: '●', color: quiet },
  done: { word: 'done', shape: '●', color: quiet },
  cancelled: { word: 'cancelled', shape: '□', color: quiet },
  failed: { word: 'failed', shape: '✕', color: red },
  critical: { word: 'critical', shape: '▲', color: red },
  major: { word: 'major', shape: '△', color: quiet },
  minor: { word: 'minor', shape: '▽', color: quiet },
  warning: { word: 'warning', shape: '·', color: quiet },
  cleared: { word: 'cleared', shape: '●', color: quiet },
  repaired: { word: 'repaired', shape: '●', color: green },
  'repaired-by-hand': { word: 'repaired by hand', shape: '●', color: green },
  mitigated: { word: 'mitigated', shape: '◑', color: quiet },
  'false-alarm': { word: 'false alarm', shape: '○', color: quiet },
  'cleared-itself': { word: 'cleared itself', shape: '○', color: quiet },
  'not-repaired': { word: 'not repaired', shape: '✕', color: red },
}

export const look = (state: string): Look => looks[state] ?? { word: state, shape: '·', color: quiet }
