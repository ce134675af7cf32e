import { createConfig, lintFromString } from '@redocly/openapi-core'
import { expect, test } from 'vitest'

import source from '../../../api/openapi.yaml?raw'

test('the API document is sound for a linter that is not the service', async () => {
  // Every error is the default answer, a problem.
  const config = await createConfig({ extends: ['recommended'], rules: { 'operation-4xx-response': 'off' } })
  const problems = await lintFromString({ source, absoluteRef: 'openapi.yaml', config })
  expect(problems.map((p) => `${p.severity} ${p.ruleId} ${p.location[0]?.pointer}: ${p.message}`)).toEqual([])
}, 60_000)
