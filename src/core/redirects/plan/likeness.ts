import { distance } from 'fastest-levenshtein';

/** A page as it is compared with others. */
export interface PageLooks {
  /** Below its site's address. */
  readonly page: string;
  readonly title: string;
  /** Its visible text. */
  readonly text: string;
}

/** A new page that an old one may have become. */
export interface LikelyPage {
  readonly page: string;
  /** From 0 to 1. */
  readonly score: number;
  /** What of them is alike. */
  readonly by: readonly ('name' | 'title' | 'text')[];
}

interface Prepared {
  readonly page: string;
  readonly name: string;
  readonly title: string;
  readonly words: ReadonlySet<string>;
}

/** Words on more than this share of the pages are part of the frame around them. */
const commonShare = 0.3;
const mostWords = 400;
/** From here on, things are called alike. */
const alike = 0.7;
const mostCompared = 120;
/** A page with another text is no sure home, whatever it is called. */
const mostForOther = 0.7;

/** Finds the new page that an old one has most likely become: by name (the last part of its path), title and text. */
export class LikelyPages {
  private readonly pages: readonly Prepared[];
  private readonly common: ReadonlySet<string>;
  private readonly ending: string;

  /** @param pages of the new site */
  constructor(pages: readonly PageLooks[]) {
    this.common = commonWords(pages);
    this.ending = commonEnding(pages.map(({ title }) => title));
    this.pages = pages.map(page => this.prepared(page));
  }

  /**
   * The likeliest pages, the best first.
   * @param old title and text may be empty where the old page was not seen
   */
  for(old: PageLooks, most = 3): LikelyPage[] {
    const wanted = this.prepared(old);
    const hasMore = wanted.title !== '' || wanted.words.size > 0;
    const rough = this.pages
      .map(page => ({
        page,
        name: nearness(wanted.name, page.name),
        title: nearness(wanted.title, page.title),
      }))
      .sort((a, b) => b.name + b.title - (a.name + a.title));
    // Comparing texts takes longest; a text that is the same is found by its words alone.
    const close = new Set([
      ...rough.slice(0, mostCompared),
      ...rough.filter(({ page }) => shares(wanted.words, page.words)),
    ]);
    return [...close]
      .map(({ page, name, title }) => {
        const kinds = [
          { kind: 'name' as const, score: name },
          { kind: 'title' as const, score: title },
          { kind: 'text' as const, score: overlap(wanted.words, page.words) },
        ].sort((a, b) => b.score - a.score);
        // Two of three are enough: a page that was renamed has kept its text. A name alone says less.
        const both = hasMore ? (kinds[0]!.score + kinds[1]!.score) / 2 : name * 0.85;
        // The same report of another year: called alike, and another text.
        const isAnother = isOther(wanted.words, page.words) || numbersDiffer(wanted.title, page.title);
        const score = isAnother ? Math.min(both, mostForOther) : both;
        const by = kinds.filter(one => one.score >= alike).map(({ kind }) => kind);
        return { page: page.page, score: Math.round(score * 100) / 100, by };
      })
      .filter(({ score }) => score >= 0.4)
      .sort((a, b) => b.score - a.score || (a.page < b.page ? -1 : 1))
      .slice(0, most);
  }

  private prepared({ page, title, text }: PageLooks): Prepared {
    const plain = title.endsWith(this.ending) ? title.slice(0, title.length - this.ending.length) : title;
    const words = wordsOf(text).filter(word => !this.common.has(word));
    return { page, name: nameOf(page), title: folded(plain), words: new Set(words.slice(0, mostWords)) };
  }
}

/** Whether the titles of two pages are the same, apart from what every page of their site ends with. */
export function sameTitle(a: string, b: string): boolean {
  const [one, two] = [a, b].map(title => folded(title.split(/\s[-–—|«·:]\s/)[0]!));
  return one !== '' && one === two;
}

/** The last part of a path that is a name, in words. */
function nameOf(page: string): string {
  const [path] = page.split('?');
  const last = path!.split('/').filter(Boolean).at(-1) ?? '';
  let name = last;
  try {
    name = decodeURIComponent(last);
  } catch {
    // It is compared as it is.
  }
  return folded(name.replace(/\.\w{1,5}$/, ''));
}

function folded(text: string): string {
  return text
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, ' ')
    .trim()
    .slice(0, 200);
}

function wordsOf(text: string): string[] {
  return [...new Set(plainLetters(text).match(/[\p{L}\p{N}]{3,}/gu) ?? [])];
}

function plainLetters(text: string): string {
  return text.slice(0, 20_000).normalize('NFKD').replace(/\p{M}/gu, '').toLowerCase();
}

/** 1 for the same, 0 for nothing in common; by the edits that make one of the other. */
function nearness(a: string, b: string): number {
  if (a === '' || b === '') return 0;
  return 1 - distance(a, b) / Math.max(a.length, b.length);
}

function overlap(a: ReadonlySet<string>, b: ReadonlySet<string>): number {
  if (a.size === 0 || b.size === 0) return 0;
  let both = 0;
  for (const word of a) if (b.has(word)) both++;
  return both / (a.size + b.size - both);
}

/** Whether two texts, both known, have little in common. */
function isOther(a: ReadonlySet<string>, b: ReadonlySet<string>): boolean {
  if (Math.min(a.size, b.size) < 5) return false;
  let both = 0;
  for (const word of a) if (b.has(word)) both++;
  return both / Math.min(a.size, b.size) < 0.4;
}

/** Whether both titles have numbers, and others: of years, or of issues. */
function numbersDiffer(a: string, b: string): boolean {
  const [one, two] = [a, b].map(title => title.match(/\d+/g)?.join(' ') ?? '');
  return one !== '' && two !== '' && one !== two;
}

/** Whether a few of the words are on a page, as they are where the text is the same. */
function shares(wanted: ReadonlySet<string>, words: ReadonlySet<string>): boolean {
  if (wanted.size < 5) return false;
  let looked = 0;
  let found = 0;
  for (const word of wanted) {
    if (words.has(word)) found++;
    if (++looked === 12) break;
  }
  return found >= looked * 0.5;
}

function commonWords(pages: readonly PageLooks[]): Set<string> {
  if (pages.length < 5) return new Set();
  const counts = new Map<string, number>();
  for (const { text } of pages)
    for (const word of wordsOf(text)) counts.set(word, (counts.get(word) ?? 0) + 1);
  return new Set([...counts].filter(([, n]) => n > pages.length * commonShare).map(([word]) => word));
}

/** What most titles end with: the name of the site. */
function commonEnding(titles: readonly string[]): string {
  const counts = new Map<string, number>();
  for (const title of titles) {
    const at = Math.max(...[' - ', ' – ', ' — ', ' | ', ' « ', ' · '].map(sign => title.lastIndexOf(sign)));
    if (at > 0) counts.set(title.slice(at), (counts.get(title.slice(at)) ?? 0) + 1);
  }
  const [best] = [...counts].sort(([, a], [, b]) => b - a);
  return best && best[1] > titles.length / 2 ? best[0] : '';
}
