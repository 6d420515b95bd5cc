import { distance } from 'fastest-levenshtein';
import { isMap, isScalar, LineCounter, type Node, parseDocument, visit } from 'yaml';
import { type ObjectSchema, ValidationError } from 'yup';
import { formatAddress, parseAddress } from '../address/address.js';
import { parsePair } from '../address/pairs.js';
import { PorterError, UsageError } from '../errors.js';
import { type Sheet, sheetSchema } from './schema.js';

/** One mistake in a sheet, with the line (from 1) that it is in. */
interface Mistake {
  readonly line: number;
  readonly key: string;
  readonly what: string;
}

/** A sheet that cannot be used; every mistake is reported at once. */
export class SheetError extends UsageError {
  readonly mistakes: readonly Mistake[];

  constructor(file: string, mistakes: readonly Mistake[]) {
    const sorted = [...mistakes].sort((a, b) => a.line - b.line);
    super({
      doing: `Reading the sheet ${file}`,
      cause: `${sorted.length === 1 ? 'it has a mistake' : `it has ${sorted.length} mistakes`}\n${sorted
        .map(({ line, key, what }) => `  line ${line}: ${key ? `${key}: ` : ''}${what}`)
        .join('\n')}`,
      remedy: 'Correct the lines named and run the command again; docs/sheet.md describes every key',
    });
    this.mistakes = sorted;
  }
}

/**
 * Reads a sheet from its YAML text.
 * @param variable gives the value of `${NAME}`, or undefined where it is not set
 * @throws SheetError with every mistake and its line
 */
export function readSheet(text: string, file: string, variable: (name: string) => string | undefined): Sheet {
  const counter = new LineCounter();
  const document = parseDocument(text, { lineCounter: counter, prettyErrors: false });
  const errors = document.errors.map(({ pos, message }) => ({
    line: counter.linePos(pos[0]).line,
    key: '',
    what: message,
  }));
  const mistakes: Mistake[] = [...new Map(errors.map(one => [`${one.line} ${one.what}`, one])).values()];
  if (mistakes.length > 0) throw new SheetError(file, mistakes);

  const lineOf = (path: readonly (string | number)[]) => lineIn(document, counter, path);
  const mistake = (path: readonly (string | number)[], what: string) =>
    mistakes.push({ line: lineOf(path), key: dotted(path), what });

  mistakes.push(...putVariables(document, counter, variable));
  if (!isMap(document.contents)) {
    throw new SheetError(file, [{ line: 1, key: '', what: 'there is nothing in it that could be a sheet' }]);
  }
  visit(document, {
    Pair(_, { key }) {
      // To the language these are what every object has.
      if (!isScalar(key) || !(String(key.value) in Object.prototype)) return;
      const line = key.range ? counter.linePos(key.range[0]).line : 1;
      mistakes.push({ line, key: String(key.value), what: 'is not a known key' });
    },
  });
  if (mistakes.some(({ key }) => key in Object.prototype)) throw new SheetError(file, mistakes);
  const raw = withoutNulls(valuesOf(document, file)) as Record<string, unknown>;
  findUnknown(raw, sheetSchema, [], (path, nearest) => {
    const hint = nearest ? `; the nearest known key is "${nearest}"` : '';
    const line = lineOfKey(document, counter, path) ?? lineOf(path);
    mistakes.push({ line, key: dotted(path), what: `is not a known key${hint}` });
  });

  let sheet: Sheet | undefined;
  try {
    sheet = withDefaults(sheetSchema.validateSync(raw, { abortEarly: false, strict: false }) as Sheet);
  } catch (error) {
    if (!(error instanceof ValidationError)) throw error;
    for (const one of error.inner.length > 0 ? error.inner : [error]) {
      if (one.type !== 'noUnknown') mistake(pathOf(one.path ?? ''), wordsOf(one));
    }
  }
  checkAddresses(raw, mistake);
  if (mistakes.length > 0 || !sheet) throw new SheetError(file, mistakes);
  return sheet;
}

type SheetDocument = ReturnType<typeof parseDocument>;

/** What a document says. @throws SheetError where aliases would make much of little, or a thing part of itself */
function valuesOf(document: SheetDocument, file: string): unknown {
  try {
    const values = document.toJS();
    // What is part of itself cannot be written out.
    JSON.stringify(values);
    return values;
  } catch (error) {
    if (error instanceof TypeError)
      throw new SheetError(file, [{ line: 1, key: '', what: 'an alias (*) is inside of what it refers to' }]);
    throw new SheetError(file, [{ line: 1, key: '', what: (error as Error).message }]);
  }
}

/** The line of a value; that of the nearest one around it where it is not there. */
function lineIn(document: SheetDocument, counter: LineCounter, path: readonly (string | number)[]): number {
  for (let length = path.length; length >= 0; length--) {
    const node = (length === 0 ? document.contents : document.getIn(path.slice(0, length), true)) as
      | Node
      | undefined;
    if (node?.range) return counter.linePos(node.range[0]).line;
  }
  return 1;
}

/** The line of a key itself. */
function lineOfKey(
  document: SheetDocument,
  counter: LineCounter,
  path: readonly (string | number)[],
): number | undefined {
  const parent = path.length > 1 ? document.getIn(path.slice(0, -1), true) : document.contents;
  const pair =
    isMap(parent) && parent.items.find(item => isScalar(item.key) && item.key.value === path.at(-1));
  const range = pair && isScalar(pair.key) ? pair.key.range : undefined;
  return range ? counter.linePos(range[0]).line : undefined;
}

/** Puts the values of variables in their place. @returns a mistake for each that is not set */
function putVariables(
  document: SheetDocument,
  counter: LineCounter,
  variable: (name: string) => string | undefined,
): Mistake[] {
  const mistakes: Mistake[] = [];
  visit(document, {
    Scalar(_, node) {
      if (typeof node.value !== 'string') return;
      node.value = node.value.replace(/\$\{(\w+)\}/g, (_whole, name: string) => {
        const value = variable(name);
        if (value === undefined && node.range) {
          const { line } = counter.linePos(node.range[0]);
          mistakes.push({ line, key: `\${${name}}`, what: 'is set neither in the environment nor in .env' });
        }
        return value ?? '';
      });
    },
  });
  return mistakes;
}

/** A key with nothing after it is one that was not given. */
function withoutNulls(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withoutNulls);
  if (typeof value !== 'object' || value === null) return value;
  const entries = Object.entries(value).filter(([, inner]) => inner !== null);
  return Object.fromEntries(entries.map(([key, inner]) => [key, withoutNulls(inner)]));
}

function withDefaults(sheet: Sheet): Sheet {
  const { files, database } = sheet.take;
  return {
    ...sheet,
    take: { files: files ?? { without: [] }, database: database ?? { tables: { without: [] } } },
  };
}

/** What Yup cannot see: that addresses can be read, differ, and that pairs make sense. */
function checkAddresses(
  raw: Record<string, unknown>,
  mistake: (path: (string | number)[], what: string) => void,
): void {
  const attempt = (path: (string | number)[], read: () => void) => {
    try {
      read();
    } catch (error) {
      if (!(error instanceof PorterError)) throw error;
      mistake(path, `${error.details.cause}. ${error.details.remedy}`);
    }
  };
  const at = (path: (string | number)[]): unknown =>
    path.reduce<unknown>((value, key) => (value as Record<string | number, unknown> | undefined)?.[key], raw);
  const paths: (string | number)[][] = [
    ['old', 'address'],
    ['new', 'address'],
    ['old', 'reach'],
    ['new', 'reach'],
    ['old', 'reach-https'],
    ['new', 'reach-https'],
  ];
  const also = at(['old', 'also']);
  if (Array.isArray(also)) for (const i of also.keys()) paths.push(['old', 'also', i]);
  for (const path of paths) {
    const value = at(path);
    if (typeof value === 'string') attempt(path, () => parseAddress(value));
  }
  attempt(['new', 'address'], () => {
    const [from, to] = [at(['old', 'address']), at(['new', 'address'])];
    if (typeof from !== 'string' || typeof to !== 'string' || !URL.canParse(from) || !URL.canParse(to))
      return;
    if (/[?#]/.test(from + to)) return;
    if (formatAddress(parseAddress(from)) === formatAddress(parseAddress(to))) {
      if (at(['old', 'files']) === at(['new', 'files'])) {
        mistake(
          ['new', 'address'],
          'is the old address, and the files are the same; there is nothing to move',
        );
      }
    }
  });
  const pairs = at(['rewrite', 'pairs']);
  if (!Array.isArray(pairs)) return;
  pairs.forEach((pair: { from?: unknown; to?: unknown }, i) => {
    const { from, to } = pair ?? {};
    if (typeof from === 'string' && typeof to === 'string')
      attempt(['rewrite', 'pairs', i], () => parsePair(from, to));
  });
}

function findUnknown(
  value: unknown,
  schema: unknown,
  path: (string | number)[],
  found: (path: (string | number)[], nearest: string | undefined) => void,
): void {
  const { type, fields, innerType } = schema as Partial<ObjectSchema<object>> & { innerType?: unknown };
  if (type === 'array' && Array.isArray(value)) {
    for (const [i, item] of value.entries()) findUnknown(item, innerType, [...path, i], found);
  }
  if (typeof (schema as { resolve?: unknown }).resolve === 'function' && type === 'lazy') {
    const resolved = (schema as unknown as { resolve(options: { value: unknown }): unknown }).resolve({
      value,
    });
    findUnknown(value, resolved, path, found);
    return;
  }
  if (!fields || typeof value !== 'object' || value === null || Array.isArray(value)) return;
  for (const [key, inner] of Object.entries(value)) {
    if (key in fields) findUnknown(inner, (fields as Record<string, unknown>)[key], [...path, key], found);
    else found([...path, key], nearestKey(key, Object.keys(fields)));
  }
}

function nearestKey(key: string, known: readonly string[]): string | undefined {
  const [nearest] = [...known].sort((a, b) => distance(key, a) - distance(key, b));
  return nearest !== undefined && distance(key, nearest) <= Math.max(2, key.length / 2) ? nearest : undefined;
}

function wordsOf(error: ValidationError): string {
  if (error.type === 'required' || error.type === 'optionality') return 'is missing';
  if (error.type === 'typeError') {
    const params = error.params as { type?: string } | undefined;
    return `must be ${params?.type === 'boolean' ? 'true or false' : `a ${params?.type ?? 'different kind of value'}`}`;
  }
  if (error.type === 'oneOf') {
    return `must be one of ${(error.params as { values?: string } | undefined)?.values ?? 'the known words'}`;
  }
  return error.message.replace(`${error.path} `, '').replace(/^this /, '');
}

function pathOf(path: string): (string | number)[] {
  const keys = path.match(/\["[^"]+"\]|\[\d+\]|[^.[\]]+/g) ?? [];
  return keys.map(key => {
    if (key.startsWith('["')) return key.slice(2, -2);
    return key.startsWith('[') ? Number(key.slice(1, -1)) : key;
  });
}

function dotted(path: readonly (string | number)[]): string {
  return path
    .map((key, i) => (typeof key === 'number' ? `[${key + 1}]` : `${i > 0 ? '.' : ''}${key}`))
    .join('');
}
