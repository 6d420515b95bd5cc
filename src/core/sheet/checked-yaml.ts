import { distance } from 'fastest-levenshtein';
import { isMap, isScalar, LineCounter, type Node, parseDocument, visit } from 'yaml';
import { type ObjectSchema, ValidationError } from 'yup';
import { UsageError } from '../errors.js';
import { putVariablesInto } from './variables.js';

/** One mistake in a sheet, with the line (from 1) that it is in. */
interface Mistake {
  readonly line: number;
  readonly key: string;
  readonly what: string;
}

/** A kind of file that a person writes. */
interface Form {
  readonly name: string;
  /** Where it is described. */
  readonly page: string;
}

export const sheetForm: Form = { name: 'the sheet', page: 'docs/sheet.md' };
export const fleetForm: Form = { name: 'the fleet', page: 'docs/fleet.md' };

/** A sheet that cannot be used; every mistake is reported at once. */
export class SheetError extends UsageError {
  readonly mistakes: readonly Mistake[];

  /** @param form which kind of file it is */
  constructor(file: string, mistakes: readonly Mistake[], form: Form = sheetForm) {
    const sorted = [...mistakes].sort((a, b) => a.line - b.line);
    super({
      doing: `Reading ${form.name} ${file}`,
      cause: `${sorted.length === 1 ? 'it has a mistake' : `it has ${sorted.length} mistakes`}\n${sorted
        .map(({ line, key, what }) => `  line ${line}: ${key ? `${key}: ` : ''}${what}`)
        .join('\n')}`,
      remedy: `Correct the lines named and run the command again; ${form.page} describes every key`,
    });
    this.mistakes = sorted;
  }
}

/** Takes a mistake at a path of keys. */
export type TakeMistake = (path: readonly (string | number)[], what: string) => void;

/** What is read, and how it is judged. */
interface Judged<Value> {
  readonly form: Form;
  readonly schema: ObjectSchema<object>;
  /** Gives the value of `${NAME}`, or undefined where it is not set; left out, those stay as they are. */
  readonly variable?: (name: string) => string | undefined;
  /** What the schema cannot see. */
  readonly check?: (raw: Record<string, unknown>, mistake: TakeMistake) => void;
  /** Makes of what the schema gives what is used. */
  readonly make: (checked: unknown) => Value;
}

/**
 * Reads YAML that a person wrote, and checks it.
 * @throws SheetError with every mistake and its line
 */
export function readCheckedYaml<Value>(
  text: string,
  file: string,
  { form, schema, variable, check, make }: Judged<Value>,
): Value {
  const failed = (list: readonly Mistake[]) => new SheetError(file, list, form);
  const counter = new LineCounter();
  const document = parseDocument(text, { lineCounter: counter, prettyErrors: false });
  const errors = document.errors.map(({ pos, message }) => ({
    line: counter.linePos(pos[0]).line,
    key: '',
    what: message,
  }));
  const mistakes: Mistake[] = [...new Map(errors.map(one => [`${one.line} ${one.what}`, one])).values()];
  if (mistakes.length > 0) throw failed(mistakes);

  const lineOf = (path: readonly (string | number)[]) => lineIn(document, counter, path);
  const mistake: TakeMistake = (path, what) => mistakes.push({ line: lineOf(path), key: dotted(path), what });

  if (variable) mistakes.push(...putVariables(document, counter, variable));
  if (!isMap(document.contents)) {
    throw failed([
      { line: 1, key: '', what: `there is nothing in it that could be ${form.name.replace('the', 'a')}` },
    ]);
  }
  visit(document, {
    Pair(_, { key }) {
      // To the language these are what every object has.
      if (!isScalar(key) || !(String(key.value) in Object.prototype)) return;
      const line = key.range ? counter.linePos(key.range[0]).line : 1;
      mistakes.push({ line, key: String(key.value), what: 'is not a known key' });
    },
  });
  if (mistakes.some(({ key }) => key in Object.prototype)) throw failed(mistakes);
  const raw = withoutNulls(valuesOf(document, failed)) as Record<string, unknown>;
  findUnknown(raw, schema, [], (path, nearest) => {
    const hint = nearest ? `; the nearest known key is "${nearest}"` : '';
    const line = lineOfKey(document, counter, path) ?? lineOf(path);
    mistakes.push({ line, key: dotted(path), what: `is not a known key${hint}` });
  });

  let made: Value | undefined;
  try {
    made = make(schema.validateSync(raw, { abortEarly: false, strict: false }));
  } catch (error) {
    if (!(error instanceof ValidationError)) throw error;
    for (const one of error.inner.length > 0 ? error.inner : [error]) {
      if (one.type !== 'noUnknown') mistake(pathOf(one.path ?? ''), wordsOf(one));
    }
  }
  check?.(raw, mistake);
  if (mistakes.length > 0 || made === undefined) throw failed(mistakes);
  return made;
}

type SheetDocument = ReturnType<typeof parseDocument>;

/** What a document says. @param failed makes the error of one where aliases would make much of little, or a thing part of itself */
function valuesOf(document: SheetDocument, failed: (list: readonly Mistake[]) => SheetError): unknown {
  try {
    const values = document.toJS();
    // What is part of itself cannot be written out.
    JSON.stringify(values);
    return values;
  } catch (error) {
    if (error instanceof TypeError)
      throw failed([{ line: 1, key: '', what: 'an alias (*) is inside of what it refers to' }]);
    throw failed([{ line: 1, key: '', what: (error as Error).message }]);
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
      node.value = putVariablesInto(node.value, name => {
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
