import { describe, expect, it } from 'vitest'

import { offered } from './offered'

const seen = [
  { field: 'service', value: 'berths', at: '' },
  { field: 'labels.signal', value: 'depth', at: '' },
  { field: 'labels.signal', value: 'rate', at: '' },
]

describe('what a condition is offered', () => {
  it('names fields that alerts had', () => {
    expect(offered('when: alert.', seen)).toEqual({ from: 6, options: ['alert.labels.signal', 'alert.service'] })
    expect(offered('alert: alert.source == "x" && alert.lab', seen)?.from).toBe(30)
  })
  it('gives the values of a field', () => {
    const signal = { options: ['depth', 'rate'] }
    expect(offered('alert: alert.labels.signal == "', seen)).toEqual({ from: 31, ...signal })
    expect(offered('alert: alert.labels.signal != "de', seen)).toEqual({ from: 31, ...signal })
    expect(offered('alert: alert.labels.signal in ["depth", "', seen)).toMatchObject(signal)
    expect(offered('alert: alert.service in ["', seen)).toMatchObject({ options: ['berths'] })
  })
  it('offers nothing elsewhere', () => {
    for (const text of ['title: An alert', 'alert: alert.unknown == "', 'alert: alert.service == "berths" ', ''])
      expect(offered(text, seen)).toBeNull()
  })
})
