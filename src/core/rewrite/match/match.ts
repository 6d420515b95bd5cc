import { type Address, effectivePort } from '../../address/address.js';
import {
  colonBefore,
  portAfter,
  type SlashStyle,
  segmentAfter,
  segmentInStyle,
  slashAfter,
  slashBefore,
} from '../../address/slashes.js';
import { asBytes, type ByteString, bytesOfText } from '../../bytes.js';
import type { Rules } from '../terms/rules.js';
import { linkAt } from './link-places.js';

/** A way in which an address is written in data (design, section 6). */
export type Form =
  | 'plain'
  | 'schemeless'
  | 'json-escaped'
  | 'unicode-escaped'
  | 'percent-encoded'
  | 'entity'
  | 'root-relative'
  | 'path'
  | 'mail'
  | 'bare host'
  | 'base64';

/** Why something that looks like an old address was not rewritten. */
export type Miss =
  | 'longer host'
  | 'sub-domain'
  | 'other port'
  | 'other scheme'
  | 'other path'
  | 'bare host'
  | 'mail address'
  | 'already new'
  /** The path alone, in quotes of which nothing shows that they hold a link. */
  | 'perhaps a link'
  | 'in Base64';

/** Found by its path alone where no link can be; it is not worth a word. */
export type NoLink = 'no link';

/** An old address at a place, and what is there afterwards. */
export interface Match {
  readonly start: number;
  readonly end: number;
  readonly put: ByteString;
  readonly pair: number;
  readonly form: Form;
}

/** The part of a string in which a match must lie, and how many backslashes its carrier writes for one. */
export interface Region {
  readonly start: number;
  readonly end: number;
  /** 1 for a value; 2 for the text of a literal in which `\\` means one backslash. */
  readonly backslashes: 1 | 2;
}

/**
 * Looks closely at a place where an anchor was found.
 * @param at offset of the host, or of the first path segment
 * @param found a host's name in lower case, or the path's bytes as they are there
 */
export function matchAt(
  s: ByteString,
  region: Region,
  at: number,
  found: string,
  rules: Rules,
): Match | Miss | NoLink {
  if (rules.hosts.has(found)) return matchHost(s, region, at, found, rules);
  const path = rules.paths.length > 0 ? matchPath(s, region, at, found, rules) : undefined;
  if (path !== undefined && path !== 'other path') return path;
  const root = rules.roots.length > 0 ? matchRoot(s, region, at, rules) : undefined;
  return root ?? path ?? 'no link';
}

function matchHost(s: ByteString, region: Region, at: number, host: string, rules: Rules): Match | Miss {
  const after = at + host.length;
  if (continuesHost(s, after, region.end)) return 'longer host';
  const second = slashBefore(s, region.start, at);
  const unit = second?.unit.length ?? 0;
  if (!second || at - 2 * unit < region.start || !sameUnit(s, at - 2 * unit, second.unit)) {
    return withoutSlashes(s, region, at, after, host, rules);
  }
  let start = at - 2 * unit;
  const colon = colonBefore(s, region.start, start, second);
  let scheme: Address['scheme'] | undefined;
  if (colon !== undefined) {
    const beforeColon = start - colon.length;
    scheme = schemeBefore(s, region.start, beforeColon);
    if (!scheme) return 'other scheme';
    start = beforeColon - scheme.length;
  } else if (start > region.start && continuesWordBackwards(s, region.start, start)) {
    return 'other path';
  }
  const port = portAfter(s, after, region.end, second);
  let miss: Miss = 'other path';
  for (const target of rules.hosts.get(host)!) {
    const afterPort = endOfPort(target.from, scheme, port, after);
    if (afterPort < 0) {
      miss = 'other port';
      continue;
    }
    const end = endOfPath(s, afterPort, region.end, target.from.segments, second);
    if (end < 0) continue;
    if (!target.to) return 'already new';
    const unicode = host !== target.from.host;
    const head = scheme ? target.to.scheme + colon + second.unit + second.unit : second.unit + second.unit;
    return {
      start,
      end,
      put: asBytes(head + hostWithPort(target.to, unicode, colon) + pathInStyle(target.to.segments, second)),
      pair: target.pair,
      form: formOf(second, scheme !== undefined, region),
    };
  }
  return miss;
}

/** Without `//` before it, a host is a mail address's, the end of a longer host, or is bare. */
function withoutSlashes(
  s: ByteString,
  region: Region,
  at: number,
  after: number,
  host: string,
  rules: Rules,
): Match | Miss {
  if (at > region.start) {
    const before = s.charCodeAt(at - 1);
    if (before === 0x40 || /%(?:25)*40$/.test(s.slice(Math.max(region.start, at - 9), at))) {
      const target = rules.mail ? rules.hosts.get(host)!.find(one => one.to) : undefined;
      if (!target?.to) return 'mail address';
      const put = bytesOfText(host === target.from.host ? target.to.host : target.to.unicodeHost);
      return { start: at, end: after, put, pair: target.pair, form: 'mail' };
    }
    // The scope of a cookie begins with a full stop.
    const cookie = rules.bareHosts && before === 0x2e && !continuesHost(s, at - 2, region.end);
    if (before === 0x2e && !cookie) return 'sub-domain';
    if (!cookie && continuesWordBackwards(s, region.start, at)) return 'longer host';
  }
  return rules.bareHosts ? bareHost(s, region, at, after, host, rules) : 'bare host';
}

const anySlash = /\\*\/|%(?:25)*2f/iy;

/** A host alone, or with a path and without what comes before one in an address. */
function bareHost(
  s: string,
  region: Region,
  at: number,
  after: number,
  host: string,
  rules: Rules,
): Match | Miss {
  if (/^:\d/.test(s.slice(after, after + 2))) return 'other port';
  anySlash.lastIndex = after;
  const style = anySlash.test(s)
    ? slashBefore(s, after, Math.min(anySlash.lastIndex, region.end))
    : undefined;
  for (const { from, to, pair } of rules.hosts.get(host)!) {
    const end = style ? endOfPath(s, after, region.end, from.segments, style) : after;
    if (end < 0 || from.port !== undefined) continue;
    if (!to) return 'already new';
    const name = host === from.host ? to.host : bytesOfText(to.unicodeHost);
    return {
      start: at,
      end,
      put: asBytes(style ? name + pathInStyle(to.segments, style) : name),
      pair,
      form: 'bare host',
    };
  }
  return 'other path';
}

function matchPath(s: ByteString, region: Region, at: number, found: string, rules: Rules): Match | Miss {
  const style = slashBefore(s, region.start, at);
  if (!style) return 'other path';
  const start = at - style.unit.length;
  if (start > region.start && continuesWordBackwards(s, region.start, start)) return 'other path';
  for (const path of rules.paths) {
    const end = endOfPath(s, start, region.end, path.segments, style);
    if (end < 0 || end < at + found.length) continue;
    if (!path.to) return 'already new';
    return { start, end, put: asBytes(pathInStyle(path.to, style)), pair: path.pair, form: 'path' };
  }
  return 'other path';
}

/** A link without its host: the path of an old address where HTML, CSS or JSON puts a link. */
function matchRoot(s: ByteString, region: Region, at: number, rules: Rules): Match | Miss | undefined {
  const style = slashBefore(s, region.start, at);
  if (!style || style.kind === 'entity') return undefined;
  const start = at - style.unit.length;
  const link = start === region.start ? 'no' : linkAt(s, region.start, start);
  if (link === 'no') return undefined;
  for (const { pair, segments, to } of rules.roots) {
    const kept = to.length > segments.length && endOfPath(s, start, region.end, to, style) >= 0;
    const end = kept ? -1 : endOfPath(s, start, region.end, segments, style);
    if (end < 0) continue;
    if (link === 'perhaps') return /^[/"'`?#\\&]/.test(s.slice(end, end + 1)) ? 'perhaps a link' : undefined;
    const path = pathInStyle(to, style);
    const put = path === '' && slashAfter(s, end, region.end, style) < 0 ? style.unit : path;
    return { start, end, put: asBytes(put), pair, form: 'root-relative' };
  }
  return undefined;
}

function sameUnit(s: string, at: number, unit: string): boolean {
  return s.startsWith(unit, at) || s.slice(at, at + unit.length).toLowerCase() === unit.toLowerCase();
}

function schemeBefore(s: string, low: number, end: number): Address['scheme'] | undefined {
  const word = s.slice(Math.max(low, end - 5), end).toLowerCase();
  if (word === 'https') return 'https';
  return word.endsWith('http') ? 'http' : undefined;
}

/** The offset after the port that this address needs at this place, or -1 where another port is. */
function endOfPort(
  from: Address,
  scheme: Address['scheme'] | undefined,
  found: { port: number; end: number } | undefined,
  after: number,
): number {
  if (!found) return from.port === undefined ? after : -1;
  if (from.port !== undefined) return found.port === from.port ? found.end : -1;
  const usual = scheme ? effectivePort({ ...from, scheme }) : undefined;
  return found.port === usual || (usual === undefined && (found.port === 80 || found.port === 443))
    ? found.end
    : -1;
}

function hostWithPort(to: Address, unicode: boolean, colon: string | undefined): string {
  const host = unicode ? bytesOfText(to.unicodeHost) : to.host;
  return to.port === undefined ? host : `${host}${colon ?? ':'}${to.port}`;
}

function endOfPath(
  s: string,
  at: number,
  high: number,
  segments: readonly string[],
  style: SlashStyle,
): number {
  let end = at;
  for (const segment of segments) {
    end = slashAfter(s, end, high, style);
    if (end >= 0) end = segmentAfter(s, end, high, segment, style);
    if (end < 0) return -1;
  }
  return segments.length > 0 && continuesSegment(s, end, high, style) ? -1 : end;
}

function pathInStyle(segments: readonly string[], style: SlashStyle): string {
  let path = '';
  for (const segment of segments) path += style.unit + segmentInStyle(segment, style);
  return path;
}

function formOf(style: SlashStyle, absolute: boolean, region: Region): Form {
  switch (style.kind) {
    case 'percent':
      return 'percent-encoded';
    case 'entity':
      return 'entity';
    case 'unicode':
      return 'unicode-escaped';
    case 'escaped':
      if (style.depth >= region.backslashes) return 'json-escaped';
  }
  return absolute ? 'plain' : 'schemeless';
}

function isWord(code: number): boolean {
  return (
    (code >= 0x61 && code <= 0x7a) ||
    (code >= 0x41 && code <= 0x5a) ||
    (code >= 0x30 && code <= 0x39) ||
    code === 0x5f
  );
}

/** `old.example` continues in `old.example.net`, `old.examples` and `old.example-2`, not at a sentence's full stop. */
function continuesHost(s: string, at: number, high: number): boolean {
  if (at >= high) return false;
  const code = s.charCodeAt(at);
  if (code === 0x2e) return at + 1 < high && (isWord(s.charCodeAt(at + 1)) || s.charCodeAt(at + 1) === 0x2d);
  return isWord(code) || code === 0x2d;
}

/** `/site` continues in `/sitemap`, `/site-2`, `/site.html` and `/site%20x`, not in `/site/`, `/site?` or `/site.` */
function continuesSegment(s: string, at: number, high: number, style: SlashStyle): boolean {
  if (at >= high) return false;
  const code = s.charCodeAt(at);
  if (code === 0x2e) return at + 1 < high && isWord(s.charCodeAt(at + 1));
  if (code === 0x25) return percentContinues(s.slice(at, at + 12), style);
  if (code >= 0xc3) return !/^(?:\xe2[\x80-\x81]|\xe3\x80|\xef\xbc)/.test(s.slice(at, at + 2));
  return isWord(code) || code === 0x2d || code === 0x7e;
}

/** In an encoded address only an encoded word character continues; in a plain one any encoded byte but a slash. */
function percentContinues(tail: string, style: SlashStyle): boolean {
  const code = /^%(?:25)*([0-9a-f]{2})/i.exec(tail)?.[1];
  if (code === undefined || code.toLowerCase() === '2f') return false;
  const byte = Number.parseInt(code, 16);
  return style.kind !== 'percent' || byte >= 0x80 || isWord(byte) || byte === 0x2d || byte === 0x7e;
}

/**
 * Whether a word ends just before `end`, so that what begins there is only the rest of something longer. The
 * letter of an escape (`\n`, `%3D`, `\u0022`) is not a word.
 */
function continuesWordBackwards(s: string, low: number, end: number): boolean {
  if (end <= low) return false;
  const code = s.charCodeAt(end - 1);
  if (code === 0x2f || code === 0x2d || code === 0x2e || code === 0x7e) return true;
  if (!isWord(code)) return false;
  const tail = s.slice(Math.max(low, end - 6), end);
  return !/(?:\\[a-z0]|%[0-9a-f]{2}|\\u[0-9a-f]{4})$/i.test(tail);
}
