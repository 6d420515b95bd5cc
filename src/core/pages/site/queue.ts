/** So many pages are remembered beyond those that are looked at. */
const mostKnown = 100_000;
/** A longer address is no page of a site. */
const longest = 2_000;
const notPages =
  /\.(?:jpe?g|png|gif|webp|avif|svg|ico|css|m?js|map|pdf|zip|gz|tar|docx?|xlsx?|pptx?|mp[34]|webm|ogg|wav|xml|json|txt|ics|woff2?|ttf|eot)(?:\?|$)|\/(?:feed|trackback)\/?(?:\?|$)|[?&](?:feed|replytocom|action|add-to-cart|share|print)=|\blog-?out\b/i;

/**
 * The pages that wait to be looked at: a fair sample by their kind, so that a hundred articles do not keep the one form
 * from being seen. The kind of a page is the shape of its address.
 */
export class PageQueue {
  private readonly seen = new Set<string>();
  private readonly kinds = new Map<string, { readonly waiting: string[]; taken: number }>();
  private waiting = 0;
  taken = 0;

  /** Adds a page, unless it is known or none. @param isPage whether it is known to be one */
  add(path: string, isPage = false): boolean {
    const clean = path.replace(/#.*/, '');
    if (this.seen.size >= mostKnown || clean.length > longest || this.seen.has(clean)) return false;
    if (!isPage && notPages.test(clean)) return false;
    this.seen.add(clean);
    const kind = kindOfPage(clean);
    const of = this.kinds.get(kind) ?? { waiting: [], taken: 0 };
    this.kinds.set(kind, of);
    of.waiting.push(clean);
    this.waiting++;
    return true;
  }

  /** Takes a page of the kind of which the fewest were taken. */
  take(): string | undefined {
    let next: { readonly waiting: string[]; taken: number } | undefined;
    for (const of of this.kinds.values())
      if (of.waiting.length > 0 && (!next || of.taken < next.taken)) next = of;
    const path = next?.waiting.shift();
    if (next && path !== undefined) {
      next.taken++;
      this.taken++;
      this.waiting--;
    }
    return path;
  }

  has(path: string): boolean {
    return this.seen.has(path.replace(/#.*/, ''));
  }

  /** How many pages are known. */
  get known(): number {
    return this.taken + this.waiting;
  }
}

/** The shape of a page's address: its folders, with numbers and last names left open, and the names in its query. */
export function kindOfPage(path: string): string {
  const [way = '', query = ''] = path.split('?', 2);
  const segments = way.split('/').filter(Boolean);
  const shape = segments.map((segment, i) =>
    /^\d+$/.test(segment) ? '#' : i === segments.length - 1 ? '*' : segment,
  );
  const names = query === '' ? [] : query.split('&').map(part => part.split('=')[0]!);
  return `/${shape.slice(0, 3).join('/')}${names.length > 0 ? `?${names.sort().join('&')}` : ''}`;
}
