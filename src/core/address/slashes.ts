/**
 * How a slash is written at a place in data. The whole address around it is written in the same way, and is
 * written back so.
 */
export interface SlashStyle {
  readonly kind: 'plain' | 'escaped' | 'unicode' | 'percent' | 'entity';
  /** The exact bytes of one slash. */
  readonly unit: string;
  /** For `escaped` and `unicode` how many backslashes are before it, for `percent` how often it is encoded. */
  readonly depth: number;
}

const plain: SlashStyle = { kind: 'plain', unit: '/', depth: 0 };
const entityEnd = /&(?:#0*47|#x0*2f|sol);$/i;
const percentEnd = /%((?:25)*)2f$/i;
const unicodeEnd = /(\\+)u002f$/i;
const longestUnit = 24;

/** The slash that ends just before `end` and begins not before `low`, in whichever way it is written. */
export function slashBefore(s: string, low: number, end: number): SlashStyle | undefined {
  if (end <= low) return undefined;
  const last = s.charCodeAt(end - 1);
  if (last === 0x2f) {
    let start = end - 1;
    while (start > low && s.charCodeAt(start - 1) === 0x5c) start--;
    const depth = end - 1 - start;
    return depth === 0 ? plain : { kind: 'escaped', unit: s.slice(start, end), depth };
  }
  if (last !== 0x66 && last !== 0x46 && last !== 0x3b) return undefined;
  const tail = s.slice(Math.max(low, end - longestUnit), end);
  if (last === 0x3b) {
    const entity = entityEnd.exec(tail);
    return entity ? { kind: 'entity', unit: entity[0], depth: 1 } : undefined;
  }
  const percent = percentEnd.exec(tail);
  if (percent) return { kind: 'percent', unit: percent[0], depth: 1 + percent[1]!.length / 2 };
  const unicode = unicodeEnd.exec(tail);
  return unicode ? { kind: 'unicode', unit: unicode[0], depth: unicode[1]!.length } : undefined;
}

/** Whether a slash in the same style is at `at`; gives the offset after it, or -1. */
export function slashAfter(s: string, at: number, high: number, style: SlashStyle): number {
  const end = at + style.unit.length;
  if (end > high) return -1;
  if (s.startsWith(style.unit, at)) return end;
  return style.kind !== 'plain' && s.slice(at, end).toLowerCase() === style.unit.toLowerCase() ? end : -1;
}

/** The colon that ends just before `end`, written as it may be beside slashes of this style; undefined if none. */
export function colonBefore(s: string, low: number, end: number, style: SlashStyle): string | undefined {
  if (end > low && s.charCodeAt(end - 1) === 0x3a) return ':';
  if (style.kind !== 'percent' && style.kind !== 'entity') return undefined;
  const tail = s.slice(Math.max(low, end - longestUnit), end);
  return (style.kind === 'percent' ? /%(?:25)*3a$/i : /&(?:#0*58|#x0*3a|colon);$/i).exec(tail)?.[0];
}

/** The colon and port number at `at`, in the style of the slashes before them. */
export function portAfter(
  s: string,
  at: number,
  high: number,
  style: SlashStyle,
): { port: number; end: number } | undefined {
  const first = s.charCodeAt(at);
  if (first !== 0x3a && first !== 0x25 && first !== 0x26) return undefined;
  const found = /^(?::|%(?:25)*3a|&(?:#0*58|#x0*3a|colon);)(\d{1,5})(?!\d)/i.exec(
    s.slice(at, Math.min(high, at + 40)),
  );
  if (!found || (first === 0x25 && style.kind !== 'percent')) return undefined;
  return { port: Number(found[1]), end: at + found[0].length };
}

/** A path segment, as it is written beside slashes of this style. */
export function segmentInStyle(segment: string, style: SlashStyle): string {
  let text = segment;
  if (style.kind === 'percent') for (let i = 0; i < style.depth; i++) text = encodeURIComponent(text);
  return text;
}

/**
 * The offset after a path segment that begins at `at`, or -1. Every byte may be percent-encoded that need not be, in
 * either hex case, once more than the slashes around it.
 */
export function segmentAfter(
  s: string,
  at: number,
  high: number,
  segment: string,
  style: SlashStyle,
): number {
  const written = segmentInStyle(segment, style);
  if (s.startsWith(written, at)) return at + written.length <= high ? at + written.length : -1;
  const deepest = style.kind === 'percent' ? style.depth : 0;
  let end = at;
  for (const wanted of bytesOfSegment(segment)) {
    if (end >= high) return -1;
    const byte = s.charCodeAt(end);
    if (byte === wanted && (byte >= 0x80 || isUnreserved(byte))) end++;
    else {
      const found =
        byte === 0x25 ? /^%((?:25)*)([0-9a-f]{2})/i.exec(s.slice(end, Math.min(high, end + 40))) : null;
      if (!found || Number.parseInt(found[2]!, 16) !== wanted || found[1]!.length > 2 * deepest) return -1;
      end += found[0].length;
    }
  }
  return end;
}

function isUnreserved(byte: number): boolean {
  return /[\w.~-]/.test(String.fromCharCode(byte));
}

/** The bytes that a segment of a URL means. */
function* bytesOfSegment(segment: string): Generator<number> {
  for (let i = 0; i < segment.length; i++) {
    const code = segment[i] === '%' ? /^[0-9a-f]{2}/i.exec(segment.slice(i + 1, i + 3))?.[0] : undefined;
    yield code === undefined ? segment.charCodeAt(i) : Number.parseInt(code, 16);
    if (code !== undefined) i += 2;
  }
}
