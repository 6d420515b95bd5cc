import { type Dialect, endOfString } from './literal.js';
import { unquoteName } from './tokens.js';

/** A string that a column is set to or compared with. Offsets bound it between its quotes. */
interface AssignedString {
  readonly column: string;
  readonly start: number;
  readonly end: number;
  /** The character code of its quotes. */
  readonly quote: number;
}

/** What an INSERT … SET or an UPDATE says of its table. */
interface Assignments {
  readonly table: string;
  /** Whether it makes a row. */
  readonly inserts: boolean;
  readonly strings: readonly AssignedString[];
}

const head =
  /^(?:(?:insert|replace)\s+(?:ignore\s+)?(?:into\s+)?|update\s+(?:ignore\s+)?)((?:`(?:[^`]|``)+`|"[^"]+"|[\w$.\x80-\xff]+))\s+set\s/i;
const assigned = /(?:`((?:[^`]|``)+)`|([\w$\x80-\xff]+))\s*=\s*(?:_\w+\s*)?(['"])/y;
const word = /[\w$\x80-\xff]+/y;

/** Reads an INSERT … SET or an UPDATE; undefined for any other statement. */
export function readAssignments(
  s: string,
  start: number,
  end: number,
  dialect: Dialect,
): Assignments | undefined {
  const found = head.exec(s.slice(start, Math.min(end, start + 1000)));
  if (!found) return undefined;
  const strings = [...assignedStrings(s, start + found[0].length, end, dialect)];
  return { table: unquoteName(found[1]!), inserts: !/^update/i.test(found[0]), strings };
}

function* assignedStrings(
  s: string,
  start: number,
  end: number,
  dialect: Dialect,
): Generator<AssignedString> {
  for (let at = start; at < end; ) {
    assigned.lastIndex = at;
    const found = assigned.exec(s);
    const quote = found?.[3] ?? (s[at] === "'" || s[at] === '"' ? s[at] : undefined);
    if (quote === undefined) {
      // A whole word at a time, so that none is tried from its middle.
      word.lastIndex = at;
      at += word.exec(s)?.[0].length ?? 1;
      continue;
    }
    const from = found ? assigned.lastIndex : at + 1;
    const to = endOfString(s, from, quote, dialect, true);
    if (to < 0 || to > end) return;
    if (found)
      yield {
        column: (found[1] ?? found[2])!.replaceAll('``', '`'),
        start: from,
        end: to,
        quote: quote.charCodeAt(0),
      };
    at = to + 1;
  }
}
