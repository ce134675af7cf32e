import { expect, test } from 'vitest'

import { plain, plainly } from './plain'

test('nothing hidden is left, and all else stays', () => {
  const cases: Record<string, string> = {
    'berth queue 12 — 7 Ω\n\tnext': 'berth queue 12 — 7 Ω\n\tnext',
    '\u001b[2Jgone': '⟨U+001B⟩[2Jgone',
    '\u009b31m': '⟨U+009B⟩31m',
    'user\u202egnp.exe': 'user⟨U+202E⟩gnp.exe',
    '\u2066\u200b\u200f\ufeff': '⟨U+2066⟩⟨U+200B⟩⟨U+200F⟩⟨U+FEFF⟩',
    'no\u00a0break\u2028line': 'no⟨U+00A0⟩break⟨U+2028⟩line',
    'filler\u3164\u115f\u{e0041}': 'filler⟨U+3164⟩⟨U+115F⟩⟨U+E0041⟩',
  }
  for (const [given, want] of Object.entries(cases)) expect(plain(given)).toBe(want)
  expect(plainly({ a: ['\u202e', 1, null, true], '\u200b': { b: 'x\u0007' } })).toEqual({
    a: ['⟨U+202E⟩', 1, null, true],
    '⟨U+200B⟩': { b: 'x⟨U+0007⟩' },
  })
})
