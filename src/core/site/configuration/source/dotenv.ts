import { asBytes, type ByteString, type Edit, textOf } from '../../../bytes.js';
import {
  type ByHand,
  type ConfigurationFiles,
  type Edited,
  type FactName,
  type Facts,
  isSecret,
  type Reading,
  type Wanted,
} from './facts.js';

/** A value of a `.env` file and where it is, without its quotes. */
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

/** Reads facts from a `.env` file; of a key that is twice the last counts. */
export function readDotenvFacts({ main, sources }: ConfigurationFiles, names: DotenvNames): Reading {
  const settings = readDotenv(sources.get(main) ?? asBytes(''));
  const facts: Facts = {};
  for (const [fact, keys] of Object.entries(names) as [FactName, readonly string[]][]) {
    const found = keys.map(key => settings.get(key)).find(one => one !== undefined);
    if (!found) continue;
    const computed = /\$\{?\w/.test(found.source) && !found.source.startsWith("'");
    facts[fact] = {
      ...found,
      value: computed ? undefined : found.value,
      file: main,
      computed,
      fromEnvironment: false,
    };
  }
  return { facts, wanted: [], unread: [] };
}

/** Edits that make a `.env` file say what is wanted; what is not there is left for the person. */
export function editDotenvFacts(
  { main, sources }: ConfigurationFiles,
  names: DotenvNames,
  wanted: Wanted,
): Edited {
  const settings = readDotenv(sources.get(main) ?? asBytes(''));
  const edits: Edit[] = [];
  const byHand: ByHand[] = [];
  for (const [fact, put] of Object.entries(wanted) as [FactName, ByteString][]) {
    const keys = names[fact] ?? [];
    const found = keys.map(key => settings.get(key)).find(one => one !== undefined);
    const literal = dotenvLiteral(put);
    if (found?.value === put) continue;
    if (found && literal !== undefined) edits.push({ start: found.start, end: found.end, put: literal });
    else
      byHand.push({
        fact,
        file: main,
        line: found?.line ?? 0,
        source: found ? '(as it is)' : '',
        put: `${keys[0] ?? fact}=${isSecret(fact) ? '(the new secret)' : textOf(literal ?? JSON.stringify(put))}`,
      });
  }
  return { edits: new Map([[main, edits.sort((a, b) => a.start - b.start)]]), byHand };
}

/** The settings of a `.env` file by key; of a key that is twice the last counts. */
export function readDotenv(source: ByteString): Map<string, Setting> {
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
export function dotenvLiteral(value: ByteString): ByteString | undefined {
  if (/^[\w./:@%+,-]*$/.test(value)) return value;
  return /['\n\r]/.test(value) ? undefined : asBytes(`'${value}'`);
}
