import { asBytes, type ByteString, type Edit, textOf } from '../../../bytes.js';
import { dotenvLiteral } from './dotenv.js';
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
import { type PhpSettings, type PhpValue, readPhp } from './php-settings.js';
import { phpLiteral } from './php-strings.js';

/** How a family's PHP configuration is read. */
export interface PhpDialect {
  /**
   * Under which name of its PHP source each fact is (see `PhpSettings`). Several may be given apart by `|`, of
   * which the first that is there counts; one that ends in `.*` is a list.
   */
  readonly names: Readonly<Partial<Record<FactName, string>>>;
  /** What constants and variables are worth before the main file is read. */
  givens?(main: string): Readonly<Record<string, ByteString>>;
  /** Files of the program itself that a configuration includes; they set nothing that is asked for here. */
  readonly ofProgram?: RegExp;
}

/** Reads facts from a PHP configuration and the files that it includes; undefined when it cannot be parsed. */
export function readPhpFacts(
  { main, sources }: ConfigurationFiles,
  dialect: PhpDialect,
): Reading | undefined {
  const settings = readPhp(main, sources, { givens: dialect.givens?.(main), ofProgram: dialect.ofProgram });
  if (!settings) return undefined;
  const facts: Facts = {};
  for (const [fact, found] of factsIn(settings, dialect)) {
    const { value, line, file, source, start, end, environment, movesAlong } = found;
    facts[fact] = {
      value,
      line: environment?.line ?? line,
      file: environment?.file ?? file,
      source,
      start: environment?.start ?? start,
      end: environment?.end ?? end,
      computed: value === undefined && !movesAlong,
      fromEnvironment: environment !== undefined,
    };
  }
  return { facts, wanted: settings.wanted, unread: settings.unread };
}

/**
 * Edits that make a PHP configuration say what is wanted: only the expressions concerned change, each to a literal.
 * What is not a constant, or is not there, is left for the person.
 */
export function editPhpFacts(
  { main, sources }: ConfigurationFiles,
  dialect: PhpDialect,
  wanted: Wanted,
): Edited {
  const edits = new Map<string, Edit[]>();
  const byHand: ByHand[] = [];
  const settings = readPhp(main, sources, { givens: dialect.givens?.(main), ofProgram: dialect.ofProgram });
  const found = new Map(settings && factsIn(settings, dialect));
  for (const [fact, put] of Object.entries(wanted) as [FactName, ByteString][]) {
    const value = found.get(fact);
    if (value?.value === put) continue;
    const edit = value && editOf(value, put);
    if (edit) edits.set(edit.file, [...(edits.get(edit.file) ?? []), edit.edit]);
    else
      byHand.push({
        fact,
        ...placeOf(value, main),
        put: statementOf(nameOf(dialect, fact), shownValue(fact, put)),
      });
  }
  for (const list of edits.values()) list.sort((a, b) => a.start - b.start);
  return { edits, byHand };
}

function* factsIn(settings: PhpSettings, { names }: PhpDialect): Generator<[FactName, PhpValue]> {
  for (const [fact, written] of Object.entries(names) as [FactName, string][]) {
    if (written.endsWith('.*')) {
      for (let i = 0, found = settings.values.get(written.replace('*', '0')); found; ) {
        yield [`${fact}.${i}` as FactName, found];
        found = settings.values.get(written.replace('*', String(++i)));
      }
      continue;
    }
    const found = settingOf(settings, written.split('|'));
    if (found) yield [fact, found];
  }
}

/** The setting under the first of some names that is there, or what is in its place as a whole. */
function settingOf({ values }: PhpSettings, names: readonly string[]): PhpValue | undefined {
  for (const name of names) {
    const found = values.get(name);
    if (found) return found;
  }
  for (let outer = names[0]!; outer.includes('.'); ) {
    outer = outer.slice(0, outer.lastIndexOf('.'));
    const found = values.get(outer);
    if (found) return { ...found, value: undefined };
  }
  return undefined;
}

function editOf(value: PhpValue, put: ByteString): { file: string; edit: Edit } | undefined {
  const { environment, start, end } = value;
  if (environment) {
    const literal = dotenvLiteral(put);
    if (literal === undefined) return undefined;
    return { file: environment.file, edit: { start: environment.start, end: environment.end, put: literal } };
  }
  return value.value === undefined
    ? undefined
    : { file: value.file, edit: { start, end, put: literalLike(value, put) } };
}

/** A literal of the kind that is there, where that can say it; otherwise a string. */
function literalLike({ literal }: PhpValue, put: ByteString): ByteString {
  if (literal === 'boolean' && (put === '' || put === '1')) return asBytes(put === '' ? 'false' : 'true');
  if (literal === 'number' && /^\d{1,15}$/.test(put)) return put;
  return phpLiteral(put);
}

function placeOf(value: PhpValue | undefined, main: string): { file: string; line: number; source: string } {
  return {
    file: value?.environment?.file ?? value?.file ?? main,
    line: value?.environment?.line ?? value?.line ?? 0,
    source: value?.source ?? '',
  };
}

function nameOf({ names }: PhpDialect, fact: FactName): string {
  const whole = names[fact];
  if (whole !== undefined) return whole.split('|')[0]!;
  const dot = fact.lastIndexOf('.');
  return (names[fact.slice(0, dot) as FactName] ?? fact).replace('*', fact.slice(dot + 1));
}

/** A value for a line that the person writes. */
function shownValue(fact: FactName, put: ByteString): ByteString {
  return isSecret(fact) ? asBytes('(the new secret)') : asBytes(textOf(put));
}

/** The PHP statement that sets a name to a value: what a person writes by hand. */
function statementOf(name: string, put: ByteString): string {
  const [first, ...keys] = name.split('.');
  if (first === 'return') return `'${keys.at(-1)}' => ${phpLiteral(put)},`;
  if (first!.startsWith('$'))
    return `${first}${keys.map(key => `['${key}']`).join('')} = ${phpLiteral(put)};`;
  if (keys.length > 0) return `public $${keys[0]} = ${phpLiteral(put)};`;
  return `define( '${first}', ${phpLiteral(put)} );`;
}

/** A host and port as one value, as most configurations write them; the usual port is left out. */
export function hostAndPort(host: string, port: number | undefined): ByteString {
  return asBytes(port === undefined || port === 3306 ? host : `${host}:${port}`);
}
