import { asBytes, type ByteString, type Edit } from '../bytes.js';
import type { ByHand, FactName, Facts, Wanted } from './family.js';

/** A value of a `.env` file and where it stands, without its quotes. */
interface Setting {
  readonly value: ByteString;
  readonly line: number;
  readonly source: string;
  /** The value as written, with its quotes. */
  readonly start: number;
  readonly end: number;
}

/** Under which keys of a `.env` file facts stand; the first that is there counts. */
export type DotenvNames = Partial<Record<FactName, readonly string[]>>;

const assignment =
  /^([ \t]*(?:export[ \t]+)?([A-Za-z_][\w.]*)[ \t]*=[ \t]*)("(?:[^"\\]|\\.)*"|'[^']*'|`[^`]*`|[^\r\n#]*?)(?=[ \t]*(?:#[^\r\n]*)?\r?$)/gm;

/** Reads facts from a `.env` file; of a key that stands twice the last counts. */
export function readDotenvFacts(source: ByteString, names: DotenvNames): Facts {
  const settings = readSettings(source);
  const facts: Facts = {};
  for (const [fact, keys] of Object.entries(names) as [FactName, readonly string[]][]) {
    const found = keys.map(key => settings.get(key)).find(one => one !== undefined);
    if (found)
      facts[fact] = {
        value: /\$\{?\w/.test(found.source) && !found.source.startsWith("'") ? undefined : found.value,
        line: found.line,
        source: found.source,
      };
  }
  return facts;
}

/** Edits that make a `.env` file say what is wanted; what is not there is left for the person. */
export function editDotenvFacts(
  source: ByteString,
  names: DotenvNames,
  wanted: Wanted,
): { edits: Edit[]; byHand: ByHand[] } {
  const settings = readSettings(source);
  const edits: Edit[] = [];
  const byHand: ByHand[] = [];
  for (const [fact, put] of Object.entries(wanted) as [FactName, ByteString][]) {
    const found = (names[fact] ?? []).map(key => settings.get(key)).find(one => one !== undefined);
    const literal = dotenvLiteral(put);
    if (found?.value === put) continue;
    if (!found || literal === undefined)
      byHand.push({ fact, line: found?.line ?? 0, source: found ? '(as it stands)' : '' });
    else edits.push({ start: found.start, end: found.end, put: literal });
  }
  return { edits: edits.sort((a, b) => a.start - b.start), byHand };
}

function readSettings(source: ByteString): Map<string, Setting> {
  const settings = new Map<string, Setting>();
  for (const found of source.matchAll(assignment)) {
    const [whole, before, key, written] = found;
    const start = found.index + before!.length;
    settings.set(key!, {
      value: unquoted(written!),
      line: source.slice(0, found.index + whole.length - written!.length).split('\n').length,
      source: written!,
      start,
      end: start + written!.length,
    });
  }
  return settings;
}

function unquoted(written: string): ByteString {
  const quote = written[0];
  if (quote !== '"' && quote !== "'" && quote !== '`') return asBytes(written);
  const inner = written.slice(1, -1);
  return asBytes(quote === '"' ? inner.replace(/\\n/g, '\n').replace(/\\(["\\$])/g, '$1') : inner);
}

/** A value as every reader of `.env` files takes it: bare where it can be, else in single quotes; undefined where neither holds it. */
function dotenvLiteral(value: ByteString): ByteString | undefined {
  if (/^[\w./:@%+,-]*$/.test(value)) return value;
  return /['\n\r]/.test(value) ? undefined : asBytes(`'${value}'`);
}
