import escapeStringRegexp from 'escape-string-regexp';

/** So much noise of a site is remembered. */
const mostRemembered = 50_000;
/** So many items of a page are brought together with their variants. */
const mostPaired = 200;
/** So much of an item has to stay for another one to be its variant. */
const leastKept = 0.3;

/**
 * What was noise on any page of a site. Two looks at a page show only what differs between these two; what is drawn by
 * chance from a few sayings, say, is sometimes the same twice, and known from other pages then.
 */
export class NoiseMemory {
  private readonly items = new Set<string>();

  /** @param items whole lines, or what changes within them */
  add(...items: readonly string[]): void {
    for (const item of items) if (this.items.size < mostRemembered) this.items.add(item);
  }

  has(item: string): boolean {
    return this.items.has(item);
  }

  /** Whether two variants of a line differ only by what is known to change. */
  explains(one: string, other: string): boolean {
    if (this.items.size === 0) return false;
    if (this.has(one) && this.has(other)) return true;
    const { left, right } = changedPart(one, other);
    return [left, right].every(part => part === '' || this.has(part)) && left + right !== '';
  }
}

/**
 * What of a page differs between two looks at the same page: its own noise, which says nothing about a move. A template
 * stands for an item with what changes in it left open; where nearly all of it changes, anything may be in its place.
 */
export class Noise {
  private readonly templates: RegExp[] = [];
  private readonly memory: NoiseMemory;
  /** So many items that differ may be noise. */
  readonly allowance: number;
  /** Whether the same items come in another order each time. */
  readonly isUnordered: boolean;

  /**
   * @param one, other the same list of two looks
   * @param memory of the site, to which this noise is added
   */
  constructor(one: readonly string[], other: readonly string[], memory: NoiseMemory) {
    this.memory = memory;
    const [left, right] = [without(one, other), without(other, one)];
    this.isUnordered = left.length === 0 && right.length === 0 && one.some((item, i) => item !== other[i]);
    memory.add(...left, ...right);
    const open = right.slice(0, mostPaired);
    let anything = Math.max(0, right.length - left.length);
    for (const item of left.slice(0, mostPaired)) {
      const variant = takeVariant(item, open);
      if (variant === undefined) {
        anything++;
        continue;
      }
      this.templates.push(templateOf(item, variant));
      const changed = changedPart(item, variant);
      memory.add(changed.left, changed.right);
    }
    this.allowance = anything;
  }

  /** What of the list is missing in the other, and what is in the other alone, apart from noise. */
  compare(
    expected: readonly string[],
    found: readonly string[],
    sameness: (item: string) => string = item => item,
  ): { missing: string[]; extra: string[] } {
    const masked = (item: string) => sameness(this.masked(item));
    const missing = without(expected, found.map(masked), masked);
    const extra = without(found, expected.map(masked), masked);
    const explained = new Set<number>();
    const left = missing.filter((item, i) => {
      const other = extra[i];
      if (other === undefined || !this.memory.explains(item, other)) return !this.memory.has(item);
      explained.add(i);
      return false;
    });
    const right = extra.filter((item, i) => !explained.has(i) && !this.memory.has(item));
    const forgiven = (items: string[]) => items.slice(Math.min(items.length, this.allowance));
    return { missing: forgiven(left), extra: forgiven(right) };
  }

  /** An item with its noise left out: two that differ by noise alone become the same. */
  masked(item: string): string {
    const at = this.templates.findIndex(template => template.test(item));
    if (at >= 0) return `\0${this.templates[at]!.source}`;
    return this.memory.has(item) ? '\0' : item;
  }

  /** Whether lines became others by what is known to change alone. */
  explains(before: readonly string[], after: readonly string[]): boolean {
    return (
      before.length === after.length &&
      before.every((line, i) => line === after[i] || this.memory.explains(line, after[i]!))
    );
  }
}

/** What of `items` is not in `others`, each counted as often as it is there. */
function without(
  items: readonly string[],
  others: readonly string[],
  keyOf: (item: string) => string = item => item,
): string[] {
  const left = new Map<string, number>();
  for (const one of others) left.set(one, (left.get(one) ?? 0) + 1);
  return items.filter(item => {
    const key = keyOf(item);
    const times = left.get(key) ?? 0;
    left.set(key, times - 1);
    return times <= 0;
  });
}

/** Takes the item out of a list that has the most in common with one. */
function takeVariant(item: string, others: string[]): string | undefined {
  let best = -1;
  let most = leastKept;
  for (const [i, other] of others.entries()) {
    const { kept } = changedPart(item, other);
    const share = kept / Math.max(item.length, other.length);
    if (share < most || (share === most && best >= 0)) continue;
    [best, most] = [i, share];
  }
  return best < 0 ? undefined : others.splice(best, 1)[0];
}

const word = /[\p{L}\p{N}]+|[^\p{L}\p{N}]/gu;

/** What two items have in common from both ends, in whole words, and what is between. */
function changedPart(
  one: string,
  other: string,
): { left: string; right: string; start: string; end: string; kept: number } {
  const [left, right] = [one.match(word) ?? [], other.match(word) ?? []];
  const shorter = Math.min(left.length, right.length);
  let from = 0;
  while (from < shorter && left[from] === right[from]) from++;
  let to = 0;
  while (to < shorter - from && left.at(-1 - to) === right.at(-1 - to)) to++;
  const [start, end] = [left.slice(0, from).join(''), to === 0 ? '' : left.slice(-to).join('')];
  const between = (words: readonly string[]) => words.slice(from, words.length - to).join('');
  let kept = start.length + end.length;
  // Where the words are as many, those between may stay as well.
  if (left.length === right.length)
    for (let i = from; i < left.length - to; i++) if (left[i] === right[i]) kept += left[i]!.length;
  return { left: between(left), right: between(right), start, end, kept };
}

/** Numbers and tokens of some length: where something changes in a line, they may be a time that was the same twice. */
const mayChange = /^(?=.*\d)[\p{L}\p{N}]{4,}$/u;

/** A pattern for two variants of one item. */
function templateOf(one: string, other: string): RegExp {
  const [left, right] = [one.match(word) ?? [], other.match(word) ?? []];
  const { start, end } = changedPart(one, other);
  const pattern =
    left.length === right.length
      ? left
          .map((part, i) =>
            part === right[i] && !mayChange.test(part) ? escapeStringRegexp(part) : '[^\\s/?&#=]*',
          )
          .join('')
      : `${escapeStringRegexp(start)}.*${escapeStringRegexp(end)}`;
  return new RegExp(`^${pattern}$`, 'su');
}

/** A value that is likely to be a token: long enough, of letters and digits. */
const token = /^(?=[\w-]*\d)(?=[\w-]*[a-zA-Z])[\w-]{8,}$|^[0-9a-fA-F]{10,}$|^\d{10,}$/;

/** A URL without what looks like a token in its query: it is another at each host. */
export function withoutTokens(url: string): string {
  const at = url.indexOf('?');
  if (at < 0) return url;
  const query = url
    .slice(at + 1)
    .split('&')
    .map(part => {
      const [name, value = ''] = part.split('=', 2);
      return token.test(value) ? `${name}=*` : part;
    });
  return `${url.slice(0, at)}?${query.join('&')}`;
}
