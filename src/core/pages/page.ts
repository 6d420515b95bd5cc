import { parse, type DefaultTreeAdapterTypes as Tree } from 'parse5';

/** What a person sees of a page, and what it needs to be seen. */
export interface Page {
  readonly title: string;
  /** The visible text, white space folded. */
  readonly text: string;
  /** As written, in the order of the page. */
  readonly links: readonly string[];
  /** Images, style sheets, scripts, frames and media, as written. */
  readonly assets: readonly string[];
  /** Whether it asks search engines not to list it. */
  readonly hidden: boolean;
}

const assetAttributes: Record<string, readonly string[]> = {
  img: ['src', 'srcset'],
  source: ['src', 'srcset'],
  script: ['src'],
  iframe: ['src'],
  video: ['src', 'poster'],
  audio: ['src'],
  embed: ['src'],
  object: ['data'],
};
const unseen = new Set(['script', 'style', 'template', 'noscript', 'head']);

/** So much of a page is read, in characters: what is made to be slow to parse takes no more than some seconds then. */
const mostParsed = 2 * 1024 * 1024;

/** Reads a page's HTML by the WHATWG HTML Standard, as far as it is not too long. */
export function readPage(html: string): Page {
  const links: string[] = [];
  const assets: string[] = [];
  const text: string[] = [];
  let title = '';
  let hidden = false;
  const walk = [{ node: parse(html.slice(0, mostParsed)) as Tree.Node, seen: true }];
  for (let next = walk.pop(); next; next = walk.pop()) {
    const { node, seen } = next;
    if (node.nodeName === '#text') {
      if (seen) text.push((node as Tree.TextNode).value);
      continue;
    }
    const element = node as Tree.Element;
    const attribute = (name: string) => element.attrs?.find(one => one.name === name)?.value;
    if (element.nodeName === 'title' && !title) title = textIn(element);
    if (element.nodeName === 'a' || element.nodeName === 'area') push(links, attribute('href'));
    if (element.nodeName === 'link' && /\b(?:stylesheet|icon|preload)\b/.test(attribute('rel') ?? '')) {
      push(assets, attribute('href'));
    }
    for (const name of assetAttributes[element.nodeName] ?? []) {
      const value = attribute(name);
      if (name !== 'srcset') push(assets, value);
      else for (const candidate of value?.split(',') ?? []) push(assets, candidate.trim().split(/\s+/)[0]);
    }
    if (
      element.nodeName === 'meta' &&
      attribute('name') === 'robots' &&
      /noindex/i.test(attribute('content') ?? '')
    ) {
      hidden = true;
    }
    const children = element.childNodes ?? [];
    const inside = seen && !unseen.has(element.nodeName);
    for (let i = children.length - 1; i >= 0; i--)
      walk.push({ node: children[i]!, seen: inside || element.nodeName === 'html' });
  }
  return { title: title.trim(), text: text.join(' ').replace(/\s+/g, ' ').trim(), links, assets, hidden };
}

function push(list: string[], value: string | undefined): void {
  if (value) list.push(value);
}

function textIn(element: Tree.Element): string {
  return element.childNodes
    .map(node => (node.nodeName === '#text' ? (node as Tree.TextNode).value : ''))
    .join('');
}
