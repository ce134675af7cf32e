import { expect, test } from 'vitest'

import { markdown } from './markdown'

test('what an author wrote is text: no HTML, no pictures, no program text in links', () => {
  const html = markdown(
    '# Head\n\n**bold** <img src=x onerror=alert(1)> ![p](https://a.example/p.png) [x](javascript:alert(1)) ' +
      '[w](https://wiki.example)',
  )
  expect(html).toContain('<strong>bold</strong>')
  expect(html).toContain('<h4>Head</h4>')
  expect(html).not.toContain('<img')
  expect(html).not.toContain('href="javascript')
  expect(html).toContain('rel="noopener noreferrer"')
})
