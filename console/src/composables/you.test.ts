import { expect, test } from 'vitest'

import type { Schemas } from '../api/client'
import { asWho } from './you'

const duty = (line: number, person: string) => ({ line, person, from: '', until: '' })
const teams: Schemas['OnCall'][] = [
  {
    team: 'quayside',
    title: 'Quayside',
    members: ['mara', 'jonas', 'iva'],
    duties: [duty(1, 'mara'), duty(2, 'jonas')],
    holes: [],
    twice: [],
  },
]

test('it is said why somebody is asked', () => {
  expect(asWho('team/quayside', teams, 'mara')).toBe('as primary on call for Quayside')
  expect(asWho('on-call/quayside', teams, 'jonas')).toBe('as secondary on call for Quayside')
  expect(asWho('team/quayside', teams, 'iva')).toBe('as one of Quayside')
  expect(asWho('team/quayside', teams, 'otto')).toBe('for Quayside, as you may approve')
  expect(asWho('person/otto', teams, 'otto')).toBe('by name')
  expect(asWho('team/else', teams, 'otto')).toBe('')
})
