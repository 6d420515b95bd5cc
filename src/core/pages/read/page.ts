import { finished } from 'node:stream/promises';
import { SAXParser, type StartTag } from 'parse5-sax-parser';

/** What an asset is for the browser that loads it. */
export type AssetKind = 'image' | 'style' | 'script' | 'media' | 'font' | 'frame' | 'icon' | 'data';

/** Something that a page loads. */
interface PageAsset {
  /** As written. */
  readonly target: string;
  readonly kind: AssetKind;
  /** The element and attribute that name it. */
  readonly where: string;
}

interface PageLink {
  /** As written. */
  readonly target: string;
  /** Whether it is inside of `nav`, or of what has the role of a menu. */
  readonly isMenu: boolean;
}

export interface PageForm {
  /** As written; undefined where the form is sent to the page itself. */
  readonly action: string | undefined;
  readonly method: string;
  /** Names of its fields with their types. */
  readonly fields: readonly { readonly name: string; readonly type: string; readonly value: string }[];
}

/** What browsers and search engines read of a page, and what a person sees. */
export interface Page {
  readonly title: string;
  /** The visible text, a line for each block, white space folded. */
  readonly lines: readonly string[];
  /** In the order of the page. */
  readonly links: readonly PageLink[];
  readonly assets: readonly PageAsset[];
  readonly forms: readonly PageForm[];
  /** `rel=canonical`, as written. */
  readonly canonical: string | undefined;
  readonly alternates: readonly { readonly language: string; readonly target: string }[];
  /** Feeds that the page names, as written. */
  readonly feeds: readonly string[];
  /** What `meta` says to robots. */
  readonly robots: string;
  /** `og:…`, `twitter:…` and `description`, each with what it says. */
  readonly social: readonly { readonly name: string; readonly content: string }[];
  /** Where `meta http-equiv=refresh` leads. */
  readonly refresh: string | undefined;
  readonly language: string;
  /** The character set that `meta` names, in lower case. */
  readonly charset: string | undefined;
  /** Style sheets inside the page, and `style` attributes. */
  readonly styles: readonly { readonly css: string; readonly where: string }[];
  /** Whether `html` is opened, and closed again. */
  readonly opened: boolean;
  readonly closed: boolean;
}

/** So much of a page is read, in characters. */
const mostParsed = 2 * 1024 * 1024;
/** What is behind so many drawings and formulas is not read: the parser takes longer for each. */
const mostDrawings = 10_000;
/** So many links, assets, lines and the like are read of each. */
const mostOfEach = 10_000;

/** Elements whose text nobody sees. */
const unseen: ReadonlySet<string> = new Set(['script', 'style', 'template', 'noscript', 'title', 'textarea']);
/** Elements inside a line of text; any other ends the line. */
const inline: ReadonlySet<string> = new Set(
  'a abbr acronym b bdi bdo big cite code data del dfn em font i ins kbd label mark q s samp small span strike strong sub sup time tt u var wbr'.split(
    ' ',
  ),
);
const assetAttributes: Readonly<Record<string, readonly (readonly [attribute: string, kind: AssetKind])[]>> =
  {
    img: [
      ['src', 'image'],
      ['srcset', 'image'],
    ],
    source: [
      ['src', 'media'],
      ['srcset', 'image'],
    ],
    input: [['src', 'image']],
    image: [['href', 'image']],
    use: [['href', 'image']],
    script: [['src', 'script']],
    iframe: [['src', 'frame']],
    frame: [['src', 'frame']],
    video: [
      ['src', 'media'],
      ['poster', 'image'],
    ],
    audio: [['src', 'media']],
    track: [['src', 'data']],
    embed: [['src', 'media']],
    object: [['data', 'media']],
    body: [['background', 'image']],
  };
const preloads: Readonly<Record<string, AssetKind>> = {
  style: 'style',
  script: 'script',
  image: 'image',
  font: 'font',
  fetch: 'data',
};

/**
 * Reads a page's HTML by the tokens of the WHATWG HTML Standard, as far as it is not too long. No tree is built: pages
 * can be made of which the tree is thousands of times as large.
 */
export async function readPage(html: string): Promise<Page> {
  const reader = new PageReader();
  const parser = new SAXParser();
  parser.on('startTag', ({ tagName, attrs, selfClosing }) => {
    reader.opens(tagName, attrs, selfClosing);
    if (reader.drawings > mostDrawings) parser.stop();
  });
  parser.on('endTag', ({ tagName }) => reader.closes(tagName));
  parser.on('text', ({ text }) => reader.reads(text));
  await finished(parser.end(html.slice(0, mostParsed)));
  return reader.page();
}

type Building<Shape> = {
  -readonly [Key in keyof Shape]: Shape[Key] extends readonly (infer One)[] ? One[] : Shape[Key];
};

class PageReader {
  drawings = 0;
  private readonly seen: Building<Page> = {
    title: '',
    lines: [],
    links: [],
    assets: [],
    forms: [],
    canonical: undefined,
    alternates: [],
    feeds: [],
    robots: '',
    social: [],
    refresh: undefined,
    language: '',
    charset: undefined,
    styles: [],
    opened: false,
    closed: false,
  };
  private title: string | undefined;
  private isTitle = false;
  private styleText: string[] | undefined;
  private line: string[] = [];
  /** Open elements whose text nobody sees, and that are menus. */
  private unseenAround = 0;
  private menus: string[] = [];
  private form: { readonly fields: PageForm['fields'][number][] } | undefined;

  opens(tag: string, attributes: StartTag['attrs'], selfClosing: boolean): void {
    const named = (name: string) => attributes.find(one => one.name === name)?.value;
    if (!inline.has(tag)) this.endLine();
    if (tag === 'html') {
      this.seen.opened = true;
      this.seen.language = named('lang') ?? '';
    }
    const isMenu = tag === 'nav' || named('role') === 'navigation' || named('role') === 'menubar';
    if (isMenu || this.menus.includes(tag)) this.menus.push(isMenu ? tag : `${tag} inside`);
    if (tag === 'a' || tag === 'area') {
      const target = named('href');
      if (target) push(this.seen.links, { target, isMenu: this.menus.length > 0 });
    }
    if (tag === 'link') this.linked(named);
    if (tag === 'meta') this.meta(named);
    for (const [name, kind] of assetAttributes[tag] ?? []) this.asset(tag, name, kind, named(name));
    const style = named('style');
    if (style?.includes('url')) push(this.seen.styles, { css: style, where: `${tag} style` });
    this.formPart(tag, named);
    if (unseen.has(tag) && !selfClosing) this.unseenAround++;
    if (tag === 'style' && !selfClosing) this.styleText = [];
    if (tag === 'svg' || tag === 'math') this.drawings++;
    this.isTitle = tag === 'title' && this.title === undefined;
  }

  closes(tag: string): void {
    if (!inline.has(tag)) this.endLine();
    if (tag === 'html') this.seen.closed = true;
    if (tag === 'form') this.form = undefined;
    if (tag === 'style' && this.styleText) {
      push(this.seen.styles, { css: this.styleText.join(''), where: 'style element' });
      this.styleText = undefined;
    }
    const last = this.menus.at(-1);
    if (last === tag || last === `${tag} inside`) this.menus.pop();
    if (unseen.has(tag) && this.unseenAround > 0) this.unseenAround--;
    this.isTitle = false;
  }

  reads(text: string): void {
    if (this.isTitle) this.title = (this.title ?? '') + text;
    else if (this.styleText) this.styleText.push(text);
    else if (this.unseenAround === 0) this.line.push(text);
  }

  page(): Page {
    this.endLine();
    return { ...this.seen, title: folded(this.title ?? '') };
  }

  private endLine(): void {
    if (this.line.length === 0) return;
    const text = folded(this.line.join(''));
    this.line = [];
    if (text !== '') push(this.seen.lines, text);
  }

  private asset(tag: string, name: string, kind: AssetKind, value: string | undefined): void {
    const where = `${tag} ${name}`;
    if (!value) return;
    if (name !== 'srcset') push(this.seen.assets, { target: value.trim(), kind, where });
    else for (const target of candidatesOf(value)) push(this.seen.assets, { target, kind, where });
  }

  private linked(named: (name: string) => string | undefined): void {
    const rels = (named('rel') ?? '').toLowerCase().split(/\s+/);
    const target = named('href');
    if (!target) return;
    if (rels.includes('canonical')) this.seen.canonical ??= target;
    const language = named('hreflang');
    const isFeed = /(?:rss|atom)\+xml|feed\+json/.test(named('type') ?? '');
    if (rels.includes('alternate') && language !== undefined)
      push(this.seen.alternates, { language, target });
    else if (rels.includes('alternate') && isFeed) push(this.seen.feeds, target);
    const where = `link ${rels[0]}`;
    const kind =
      rels.includes('preload') || rels.includes('modulepreload')
        ? preloads[named('as') ?? 'script']
        : undefined;
    if (rels.includes('stylesheet')) push(this.seen.assets, { target, kind: 'style', where });
    else if (rels.some(rel => rel === 'icon' || rel === 'apple-touch-icon'))
      push(this.seen.assets, { target, kind: 'icon', where });
    else if (rels.includes('manifest')) push(this.seen.assets, { target, kind: 'data', where });
    else if (kind) push(this.seen.assets, { target, kind, where });
  }

  private meta(named: (name: string) => string | undefined): void {
    const name = (named('name') ?? named('property') ?? '').toLowerCase();
    const content = named('content') ?? '';
    if (/^(?:robots|googlebot|bingbot)$/.test(name)) this.seen.robots += `${content.toLowerCase()} `;
    if (/^(?:og|twitter|article):|^description$/.test(name)) push(this.seen.social, { name, content });
    const equivalent = named('http-equiv')?.toLowerCase();
    if (equivalent === 'refresh') this.seen.refresh ??= /url\s*=\s*["']?([^"']+)/i.exec(content)?.[1]?.trim();
    const charset = equivalent === 'content-type' ? /charset=([\w-]+)/i.exec(content)?.[1] : named('charset');
    if (charset) this.seen.charset ??= charset.toLowerCase();
  }

  private formPart(tag: string, named: (name: string) => string | undefined): void {
    if (tag === 'form') {
      const fields: PageForm['fields'][number][] = [];
      this.form = { fields };
      push(this.seen.forms, {
        action: named('action'),
        method: (named('method') ?? 'get').toLowerCase(),
        fields,
      });
    }
    if (!this.form || !/^(?:input|select|textarea|button)$/.test(tag)) return;
    const name = named('name');
    if (name)
      push(this.form.fields, {
        name,
        type: tag === 'input' ? (named('type') ?? 'text').toLowerCase() : tag,
        value: named('value') ?? '',
      });
  }
}

/** The URLs of a `srcset` (HTML Standard, 4.8.4.2.1): a comma separates only where white space is beside it. */
function candidatesOf(srcset: string): string[] {
  return srcset
    .split(/,\s+|\s,/)
    .map(candidate => candidate.trim().split(/\s+/)[0]!.replace(/,$/, ''))
    .filter(target => target !== '');
}

function folded(text: string): string {
  // White space that is one space already need not be folded.
  return (/[^\S ]| {2}/.test(text) ? text.replace(/\s+/g, ' ') : text).trim();
}

function push<One>(list: One[], one: One): void {
  if (list.length < mostOfEach) list.push(one);
}
