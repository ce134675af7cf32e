/** What is not seen as what it is: control, formatting and direction characters, spaces that are not the space. Lines and tabs stay. */
const hidden = /(?![\n\t ])[\p{C}\p{Z}\u115f\u1160\u3164\uffa0]/gu

const named = (c: string) => `⟨U+${c.codePointAt(0)!.toString(16).toUpperCase().padStart(4, '0')}⟩`

/** Gives text from outside with all that is hidden in it made visible, as ⟨U+202E⟩. */
export const plain = (text: string) => text.replaceAll('\r\n', '\n').replace(hidden, named)

/** Does so with all text in a value. */
export function plainly<T>(value: T): T {
  if (typeof value === 'string') return plain(value) as T
  if (Array.isArray(value)) return value.map(plainly) as T
  if (value && typeof value === 'object')
    return Object.fromEntries(Object.entries(value).map(([k, v]) => [plain(k), plainly(v)])) as T
  return value
}
