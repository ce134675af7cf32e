import MarkdownIt from 'markdown-it'

/**
 * Markdown as an author wrote it, as HTML: what is HTML in it stands as text, pictures are left out, its headings stand
 * below the one of the page, and links open beside it. Addresses that are program text are refused by the library.
 */
const md = new MarkdownIt({ html: false, linkify: false }).disable('image')
const plain = md.renderer.renderToken.bind(md.renderer)
md.renderer.rules.link_open = (tokens, i, options) => {
  tokens[i]?.attrSet('rel', 'noopener noreferrer')
  tokens[i]?.attrSet('target', '_blank')
  return plain(tokens, i, options)
}
for (const rule of ['heading_open', 'heading_close'])
  md.renderer.rules[rule] = (tokens, i, options) => {
    const t = tokens[i]
    if (t) t.tag = 'h4'
    return plain(tokens, i, options)
  }

export const markdown = (text: string) => md.render(text)
