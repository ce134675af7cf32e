import { readFileSync } from 'node:fs'

import { createConfig, lintFromString } from '@redocly/openapi-core'
import { expect, test } from 'vitest'

test('the API document is sound for a linter that is not the service', async () => {
  const config = await createConfig({ extends: ['recommended'], rules: { 'operation-4xx-response': 'off' } }) // every error is the default answer, a problem
  const problems = await lintFromString({ source: readFileSync('../api/openapi.yaml', 'utf8'), absoluteRef: 'openapi.yaml', config })
  expect(problems.map((p) => `${p.severity} ${p.ruleId} ${p.location[0]?.pointer}: ${p.message}`)).toEqual([])
})
