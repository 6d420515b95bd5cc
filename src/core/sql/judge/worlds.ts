import type { Dialect } from '../literal.js';
import { endOfString } from '../literal.js';

/** Statements with more kinds of versioned comments are in no dump. */
const mostKinds = 4;
/** Every server that is in use takes what is marked for a version up to this. */
const everywhere = 50_700;

/** What a statement is to the servers that may read it. */
export interface Worlds {
  /** Its texts without comments, one for each way in which servers may take its versioned comments; empty ones left out. */
  readonly texts: readonly string[];
  /** Whether every server takes all of it. */
  readonly isForAll: boolean;
}

interface Versioned {
  /** What is before the code: `!`, `!50013` or `M!100616`. */
  readonly kind: string;
  readonly from: number;
  readonly codeFrom: number;
  readonly codeTo: number;
  readonly to: number;
}

/**
 * Opens the comments of a statement. What is in a versioned comment is code to some servers and nothing to others.
 * @returns why it cannot be done, where servers would not agree on where a comment ends
 */
export function worldsOf(statement: string, dialect: Dialect): Worlds | string {
  const found = commentsIn(statement, dialect);
  if (typeof found === 'string') return found;
  const { plain, versioned } = found;
  if (plain.length === 0 && versioned.length === 0) return { texts: [statement], isForAll: true };
  const kinds = [...new Set(versioned.map(({ kind }) => kind))];
  if (kinds.length > mostKinds) return 'it has too many kinds of versioned comments';
  const texts = new Set<string>();
  for (const takes of serversFor(kinds)) {
    const parts: [from: number, to: number][] = plain.map(({ from, to }) => [from, to]);
    for (const { kind, from, codeFrom, codeTo, to } of versioned) {
      if (!takes(kind)) parts.push([from, to]);
      else parts.push([from, codeFrom], [codeTo, to]);
    }
    const text = blanked(statement, parts).trim();
    if (text !== '') texts.add(text);
  }
  const isForAll = kinds.every(kind => !kind.startsWith('M') && versionOf(kind) < everywhere);
  return { texts: [...texts], isForAll };
}

/** For every server that takes other kinds than the rest, which ones it takes. */
function serversFor(kinds: readonly string[]): ((kind: string) => boolean)[] {
  const versions = [...new Set([0, ...kinds.map(versionOf)])];
  return versions.flatMap(version => [
    // MySQL knows nothing of the comments of MariaDB, which passes over those of its newer versions.
    (kind: string) => !kind.startsWith('M') && versionOf(kind) <= version,
    (kind: string) =>
      versionOf(kind) <= version && (kind.startsWith('M') || !isOfMysqlAlone(versionOf(kind))),
    (kind: string) => versionOf(kind) <= version,
  ]);
}

function versionOf(kind: string): number {
  return Number(kind.replace(/^M?!/, ''));
}

function isOfMysqlAlone(version: number): boolean {
  return version >= 50_700 && version < 100_000;
}

function commentsIn(
  s: string,
  dialect: Dialect,
): { plain: { from: number; to: number }[]; versioned: Versioned[] } | string {
  const plain: { from: number; to: number }[] = [];
  const versioned: Versioned[] = [];
  const stops = /['"`#\\]|--(?=[\s\x00-\x20]|$)|\/\*|\*\//g;
  let open: { kind: string; from: number; codeFrom: number } | undefined;
  for (let found = stops.exec(s); found; found = stops.exec(s)) {
    const [token] = found;
    const at = found.index;
    switch (token) {
      case "'":
      case '"':
      case '`': {
        const end = token === '`' ? endOfName(s, at + 1) : endOfString(s, at + 1, token, dialect, true);
        if (end < 0) return 'a quote has no end';
        // A server that skips the comment sees its end here.
        if (open && s.slice(at, end).includes('*/')) return 'a comment may end inside of quotes';
        stops.lastIndex = end + 1;
        break;
      }
      case '\\':
        return 'a backslash is outside of quotes';
      case '*/':
        if (!open) return 'a comment ends that has not begun';
        versioned.push({ ...open, codeTo: at, to: at + 2 });
        open = undefined;
        break;
      case '/*': {
        if (open) return 'a comment is inside of another';
        const head = /^\/\*(M?!)(\d*)/.exec(s.slice(at, at + 16));
        if (head) {
          if (!/^(?:\d{5,6})?$/.test(head[2]!)) return 'the version of a comment cannot be read';
          open = { kind: `${head[1]}${head[2]}`, from: at, codeFrom: at + head[0].length };
          stops.lastIndex = open.codeFrom;
          break;
        }
        if (s[at + 2] === '+') return 'it has a hint to the server';
        const end = s.indexOf('*/', at + 2);
        if (end < 0) return 'a comment has no end';
        plain.push({ from: at, to: end + 2 });
        stops.lastIndex = end + 2;
        break;
      }
      default: {
        if (open) return 'a comment is inside of another';
        const end = s.indexOf('\n', at);
        plain.push({ from: at, to: end < 0 ? s.length : end });
        stops.lastIndex = end < 0 ? s.length : end;
      }
    }
  }
  return open ? 'a comment has no end' : { plain, versioned };
}

function endOfName(s: string, from: number): number {
  for (let at = s.indexOf('`', from); at >= 0; at = s.indexOf('`', at + 2)) if (s[at + 1] !== '`') return at;
  return -1;
}

/** The text with a space in the place of some parts. */
function blanked(s: string, parts: [from: number, to: number][]): string {
  let text = '';
  let at = 0;
  for (const [from, to] of parts.sort((a, b) => a[0] - b[0])) {
    text += `${s.slice(at, from)} `;
    at = to;
  }
  return text + s.slice(at);
}
