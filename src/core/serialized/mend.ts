import { asBytes, type ByteString } from '../bytes.js';

/** A string whose length is corrected. */
interface Mended {
  readonly digitsStart: number;
  readonly digitsEnd: number;
  readonly length: number;
}

/** How many steps may be taken on the search for the right ends, beyond one for each byte. */
const patience = 20_000;

/**
 * Sets the lengths of a damaged serialized value right, where only one way of reading it is left: all counts of
 * elements are kept, and every string ends at a quote after which the value continues as one must.
 * @returns undefined where it cannot be read so, or in more than one way
 */
export function mendSerialized(value: ByteString): ByteString | undefined {
  const found = new Search(value).solutions();
  if (found.length !== 1) return undefined;
  let out = '';
  let from = 0;
  for (const { digitsStart, digitsEnd, length } of found[0]!) {
    out += value.slice(from, digitsStart) + length;
    from = digitsEnd;
  }
  return asBytes(out + value.slice(from));
}

/** Where the reading is: how many values each open level still wants. Keys count as values. */
interface Place {
  readonly at: number;
  readonly left: number;
  readonly outer: { readonly left: number; readonly outer: Place['outer'] } | undefined;
  readonly mended: { readonly last: Mended; readonly before: Place['mended'] } | undefined;
}

class Search {
  private readonly s: ByteString;
  private steps: number;

  constructor(s: ByteString) {
    this.s = s;
    this.steps = s.length + patience;
  }

  /** The ways of reading the whole value; no more than two are looked for. */
  solutions(): Mended[][] {
    const found: Mended[][] = [];
    const open: Place[] = [{ at: 0, left: 1, outer: undefined, mended: undefined }];
    for (let place = open.pop(); place; place = open.pop()) {
      // A search that is given up leaves doubt.
      if (--this.steps < 0) return [];
      if (place.left === 0 && place.outer === undefined) {
        if (place.at !== this.s.length) continue;
        found.push(listOf(place.mended));
        if (found.length > 1) return found;
        continue;
      }
      for (const next of this.after(place).reverse()) open.push(next);
    }
    return found;
  }

  /** Where the reading may be after the next value, or after the end of a level. */
  private after(place: Place): Place[] {
    const { s } = this;
    const { at, left, outer } = place;
    if (left === 0) {
      return s[at] === '}' ? [{ ...place, at: at + 1, left: outer!.left, outer: outer!.outer }] : [];
    }
    const rest = left - 1;
    token.lastIndex = at;
    const found = token.exec(s);
    if (!found) return [];
    const end = token.lastIndex;
    const [, scalar, array, text] = found;
    // In an array or object every other value is a key: a number or a string.
    if (outer && left % 2 === 0 && scalar?.[0] !== 'i' && text === undefined) return [];
    if (scalar !== undefined) return [{ ...place, at: end, left: rest }];
    if (array !== undefined)
      return [{ ...place, at: end, left: 2 * Number(array), outer: { left: rest, outer } }];
    if (text !== undefined) return this.stringEnds(place, found.index + 2, end, Number(text));
    const [, , , , name, count] = found;
    return name!.length === Number(/\d+/.exec(found[0])![0])
      ? [{ ...place, at: end, left: 2 * Number(count), outer: { left: rest, outer } }]
      : [];
  }

  /** A length that is right is kept; for one that is not, every quote that could end the string is tried. */
  private stringEnds(place: Place, digitsStart: number, start: number, length: number): Place[] {
    const { s } = this;
    const rest = { ...place, left: place.left - 1 };
    if (this.canResume(start + length, rest)) return [{ ...rest, at: start + length + 2 }];
    const digitsEnd = start - 2;
    const ends: Place[] = [];
    for (let end = s.indexOf('";', start); end >= 0; end = s.indexOf('";', end + 1)) {
      this.steps--;
      if (!this.canResume(end, rest)) continue;
      const last = { digitsStart, digitsEnd, length: end - start };
      ends.push({ ...rest, at: end + 2, mended: { last, before: place.mended } });
      if (this.steps < 0) return [];
    }
    return ends;
  }

  /** Whether a string may end at an offset, for what comes after it. */
  private canResume(end: number, { left, outer }: Place): boolean {
    const { s } = this;
    if (!s.startsWith('";', end)) return false;
    if (outer === undefined) return end + 2 === s.length;
    if (left === 0) return s[end + 2] === '}';
    token.lastIndex = end + 2;
    return token.test(s);
  }
}

const token =
  /(N;|[bi]:[+-]?\d+;|d:[^;"]{1,64};|[rR]:\d+;)|a:\+?(\d+):\{|s:(\d+):"|O:\+?\d+:"([^"]*)":(\d+):\{/y;

function listOf(mended: Place['mended']): Mended[] {
  const list: Mended[] = [];
  for (let one = mended; one; one = one.before) list.push(one.last);
  return list.reverse();
}
