import { asBytes, type ByteString, type Edit } from '../bytes.js';
import type { ByHand, FactName, Facts, Wanted } from './family.js';
import { type PhpSettings, type PhpValue, phpLiteral, readPhp } from './php-source.js';

/** Under which name of its PHP source each fact of a configuration stands (see `PhpSettings`). */
export type PhpNames = Partial<Record<FactName, string>>;

/** Reads facts from a PHP configuration; undefined when it cannot be parsed. */
export function readPhpFacts(source: ByteString, names: PhpNames): Facts | undefined {
  const settings = readPhp(source);
  if (!settings) return undefined;
  const facts: Facts = {};
  for (const [fact, name] of Object.entries(names) as [FactName, string][]) {
    const found = settingOf(settings, name);
    if (found) facts[fact] = { value: found.value, line: found.line, source: found.source };
  }
  return facts;
}

/**
 * Edits that make a PHP configuration say what is wanted: only the expressions concerned change, each to a
 * single-quoted literal. What is not a constant, or is not there, is left for the person.
 */
export function editPhpFacts(
  source: ByteString,
  names: PhpNames,
  wanted: Wanted,
): { edits: Edit[]; byHand: ByHand[] } {
  const edits: Edit[] = [];
  const byHand: ByHand[] = [];
  const settings = readPhp(source);
  for (const [fact, put] of Object.entries(wanted) as [FactName, ByteString][]) {
    const found = settings && settingOf(settings, names[fact] ?? '');
    if (found?.value === put) continue;
    if (found?.value !== undefined) edits.push({ start: found.start, end: found.end, put: phpLiteral(put) });
    else byHand.push({ fact, line: found?.line ?? 0, source: found?.source ?? '' });
  }
  return { edits: edits.sort((a, b) => a.start - b.start), byHand };
}

/** The setting under a name; several names may be given apart by `|`, and the first that is there counts. */
function settingOf(settings: PhpSettings, names: string): PhpValue | undefined {
  for (const name of names.split('|')) {
    const found = settings.get(name);
    if (found) return found;
  }
  return undefined;
}

/** A host and port as one value, as most configurations write them; the usual port is left out. */
export function hostAndPort(host: string, port: number | undefined): ByteString {
  return asBytes(port === undefined || port === 3306 ? host : `${host}:${port}`);
}
