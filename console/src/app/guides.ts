// The guides and reference pages of the documentation, which ship with the console; each is loaded when it is read.
import MarkdownIt from 'markdown-it'

const pages = import.meta.glob<string>('../../../docs/{guides,reference}/*.md', {
  query: '?raw',
  import: 'default',
})
const byName = new Map(Object.entries(pages).map(([path, load]) => [nameOf(path), load]))
// HTML in a page is shown as text.
const markdown = new MarkdownIt({ html: false })

/** Returns the name of a page, such as "connect-a-directory", from its path or from a link to it. */
export function nameOf(path: string): string {
  return (path.split('#')[0]!.split('/').pop() ?? '').replace(/\.md$/, '')
}

export function isPage(name: string): boolean {
  return byName.has(name)
}

/** Returns a page as HTML. Links to other pages stay as they are written. */
export async function pageOf(name: string): Promise<string> {
  const load = byName.get(name)
  if (!load) throw new Error(`There is no guide '${name}'.`)
  return markdown.render(await load())
}
