import { finished } from 'node:stream/promises';
import { SAXParser } from 'parse5-sax-parser';

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
/** Elements whose text nobody sees. */
const unseen: ReadonlySet<string> = new Set(['script', 'style', 'template', 'noscript', 'title']);
/** What may be in a head; anything else begins the body. */
const ofHead: ReadonlySet<string> = new Set([...unseen, 'head', 'base', 'link', 'meta', 'html']);

/** What is behind so many drawings and formulas is not read: the parser takes longer for each. */
const mostDrawings = 10_000;
/** So much of a page is read, in characters. */
const mostParsed = 2 * 1024 * 1024;

/**
 * Reads a page's HTML by the tokens of the WHATWG HTML Standard, as far as it is not too long. No tree is built: pages
 * can be made of which the tree is thousands of times as large.
 */
export async function readPage(html: string): Promise<Page> {
  const links: string[] = [];
  const assets: string[] = [];
  const text: string[] = [];
  let title: string | undefined;
  let hidden = false;
  let isInHead = false;
  let isTitle = false;
  /** Open elements whose text nobody sees. */
  let unseenAround = 0;
  let drawings = 0;
  const parser = new SAXParser();
  parser.on('startTag', ({ tagName, attrs, selfClosing }) => {
    const attribute = (name: string) => attrs.find(one => one.name === name)?.value;
    isInHead = tagName === 'head' || (isInHead && ofHead.has(tagName));
    if (tagName === 'a' || tagName === 'area') push(links, attribute('href'));
    if (tagName === 'link' && /\b(?:stylesheet|icon|preload)\b/.test(attribute('rel') ?? ''))
      push(assets, attribute('href'));
    for (const name of assetAttributes[tagName] ?? []) {
      const value = attribute(name);
      if (name !== 'srcset') push(assets, value);
      else for (const candidate of value?.split(',') ?? []) push(assets, candidate.trim().split(/\s+/)[0]);
    }
    if (tagName === 'meta' && attribute('name') === 'robots' && /noindex/i.test(attribute('content') ?? ''))
      hidden = true;
    if (unseen.has(tagName) && !selfClosing) unseenAround++;
    if ((tagName === 'svg' || tagName === 'math') && ++drawings > mostDrawings) parser.stop();
    isTitle = tagName === 'title' && title === undefined;
  });
  parser.on('endTag', ({ tagName }) => {
    if (unseen.has(tagName) && unseenAround > 0) unseenAround--;
    if (tagName === 'head') isInHead = false;
    isTitle = false;
  });
  parser.on('text', ({ text: some }) => {
    if (isTitle) title = (title ?? '') + some;
    else if (unseenAround === 0 && !(isInHead && some.trim() === '')) {
      isInHead = false;
      text.push(some);
    }
  });
  await finished(parser.end(html.slice(0, mostParsed)));
  const shown = text.join(' ').replace(/\s+/g, ' ').trim();
  return { title: (title ?? '').trim(), text: shown, links, assets, hidden };
}

function push(list: string[], value: string | undefined): void {
  if (value) list.push(value);
}
