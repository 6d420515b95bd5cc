import parser from 'php-parser';
import type { ByteString } from '../../../bytes.js';
import { readDotenv } from './dotenv.js';
import { type EnvironmentSetting, evaluate, type Scope, type Worth } from './php-evaluate.js';
import { type Node, nameOfCall } from './php-node.js';
import { movesAlong, pathOfValue } from './php-paths.js';
import { isGuard, nodesOf, type Verdict } from './php-walk.js';

/** An expression in PHP source: what it is worth if that can be seen without running it, and where it is. */
export interface PhpValue {
  /** The bytes of what the sources fix; undefined where it depends on more. */
  readonly value: ByteString | undefined;
  /** The expression as it is. */
  readonly source: string;
  readonly file: string;
  readonly start: number;
  readonly end: number;
  readonly line: number;
  /** Whether a condition decides if this is carried out; `defined() ||` and `if (!defined())` are none. */
  readonly conditional: boolean;
  /** How it is written, if as a plain literal. */
  readonly literal: 'string' | 'number' | 'boolean' | undefined;
  /** The setting of a `.env` file that gives it. */
  readonly environment: EnvironmentSetting | undefined;
  /** Whether it only depends on where the site's folder is. */
  readonly movesAlong: boolean;
}

/** A file that a configuration includes and that was not read, and why. */
interface Unread {
  readonly file: string;
  readonly line: number;
  readonly source: string;
}

/** What PHP configuration files set. */
export interface PhpSettings {
  /**
   * By the name it is read under: a constant `DB_NAME`, a variable `$table_prefix`, an element of an array
   * `$databases.default.default.database`, a class's property `JConfig.db`, an element of the array that the main file
   * returns `return.db.host`.
   */
  readonly values: ReadonlyMap<string, PhpValue>;
  /** Paths, below the site's folder, of files that must be looked for before all is known. */
  readonly wanted: readonly string[];
  readonly unread: readonly Unread[];
}

/** Files of a configuration by their path; undefined for one that was looked for and is not there. */
export type Sources = ReadonlyMap<string, ByteString | undefined>;

interface Around {
  readonly givens?: Readonly<Record<string, ByteString>> | undefined;
  readonly ofProgram?: RegExp | undefined;
}

/** Of one file. */
const largest = 1024 * 1024;
const deepest = 10;

/**
 * Parses PHP source and reads what it sets at its top level, with the files that it includes, without running
 * anything. Of a constant the first definition counts, of anything else the last; where a condition decides
 * between two, the value is undefined.
 * @param around what constants and variables are worth before the file is read, by name, and which of the files
 *   that it includes are the program's own and not of interest
 * @returns undefined when the main file is too large or cannot be parsed
 */
export function readPhp(main: string, sources: Sources, around: Around = {}): PhpSettings | undefined {
  const program = parse(sources.get(main));
  return program && new Reader(sources, around).read(main, program);
}

function parse(source: ByteString | undefined): readonly Node[] | undefined {
  if (source === undefined || source.length > largest) return undefined;
  // The parser keeps its state in the instance; one for each file is its documented use.
  const engine = new parser.Engine({ ast: { withPositions: true }, parser: { extractDoc: false } });
  try {
    const { children } = engine.parseCode(source, 'configuration') as unknown as { children: Node[] };
    const end = children.findIndex(
      ({ kind, expression }) =>
        ['return', 'halt'].includes(kind) || (expression as Node | undefined)?.kind === 'exit',
    );
    if (end < 0) return children;
    return children.slice(0, children[end]?.kind === 'return' ? end + 1 : end);
  } catch {
    return undefined;
  }
}

/** So many includes are followed in all: files that include each other would never end. */
const mostIncludes = 50;

/** Goes through programs and notes what they set. */
class Reader {
  private readonly values = new Map<string, PhpValue>();
  private readonly wanted = new Set<string>();
  private readonly unread: Unread[] = [];
  private readonly sources: Sources;
  private readonly around: Around;
  private readonly environment: ReadonlyMap<string, EnvironmentSetting>;
  private readonly included = new Set<string>();
  private depth = 0;
  /** Includes that were followed, of whatever file. */
  private followed = 0;
  private scope: Scope;

  constructor(sources: Sources, around: Around) {
    this.sources = sources;
    this.around = around;
    this.environment = environmentOf(sources);
    this.scope = this.scopeOf('');
  }

  read(main: string, program: readonly Node[]): PhpSettings {
    try {
      this.readFile(main, program, false);
    } catch (error) {
      // An expression nested beyond the stack is no configuration.
      if (!(error instanceof RangeError)) throw error;
      this.unread.push({ file: main, line: 1, source: 'an expression of enormous depth' });
    }
    return { values: this.values, wanted: [...this.wanted], unread: this.unread };
  }

  private readFile(file: string, program: readonly Node[], conditional: boolean): void {
    const before = this.scope;
    this.scope = this.scopeOf(file);
    this.depth++;
    for (const found of nodesOf(program, test => this.decide(test))) {
      this.visit(found.node, conditional || found.conditional);
    }
    this.depth--;
    this.scope = before;
  }

  private visit(node: Node, conditional: boolean): void {
    if (node.kind === 'call' && nameOfCall(node) === 'define') {
      const [name, value] = node.arguments as Node[];
      const key = name && this.valueOf(name);
      if (key !== undefined && value) this.note(key, value, conditional, true);
    } else if (node.kind === 'constantstatement') {
      for (const { name, value } of node.constants as { name: Node; value: Node }[]) {
        this.note(String(name.name), value, conditional, true);
      }
    } else if (node.kind === 'assign' || node.kind === 'assignref') {
      this.visitAssignment(node, conditional);
    } else if (node.kind === 'unset') {
      for (const one of node.variables as Node[]) this.forget(this.pathOf(one));
    } else if (node.kind === 'class') {
      this.readClass(node);
    } else if (node.kind === 'return') {
      // What an included file returns goes to whoever includes it, which is not followed.
      if (this.depth === 1 && node.expr) this.assign('return', node.expr as Node, conditional);
    } else if (node.kind === 'include') {
      this.include(node, conditional);
    }
  }

  private visitAssignment(node: Node, conditional: boolean): void {
    const left = node.left as Node;
    if (left.kind === 'list' || left.kind === 'array') {
      for (const item of (left.items as (Node | null)[]).filter(one => one !== null)) {
        const path = this.pathOf((item.kind === 'entry' ? item.value : item) as Node);
        if (path !== undefined) this.note(path, node, conditional, false);
      }
      return;
    }
    const path = this.pathOf(left);
    if (path === undefined) return;
    if (node.kind === 'assign' && node.operator === '=') this.assign(path, node.right as Node, conditional);
    // What is added to or made a reference is worth what running the code would show.
    else this.note(path, node, conditional, false);
  }

  private readClass(node: Node): void {
    for (const statement of node.body as Node[]) {
      if (statement.kind !== 'propertystatement') continue;
      for (const { name, value } of statement.properties as { name: Node; value: Node | null }[]) {
        if (value) this.assign(`${String((node.name as Node).name)}.${String(name.name)}`, value, false);
      }
    }
  }

  /** Reads an included file as if it were here. */
  private include(node: Node, conditional: boolean): void {
    const target = this.valueOf(node.target as Node);
    const { file } = this.scope;
    const path = target === undefined ? undefined : pathOfValue(target, file);
    const unread = () => this.unread.push({ file, line: node.loc!.start.line, source: this.sourceOf(node) });
    if (path === undefined) {
      unread();
      return;
    }
    if (anyLibrary.test(path) || this.around.ofProgram?.test(path)) return;
    if (node.once && this.included.has(path)) return;
    this.included.add(path);
    if (++this.followed > mostIncludes) {
      unread();
      return;
    }
    if (!this.sources.has(path)) {
      this.wanted.add(path);
      return;
    }
    if (this.sources.get(path) === undefined && !node.require) return;
    const program = this.depth < deepest ? parse(this.sources.get(path)) : undefined;
    if (program) this.readFile(path, program, conditional);
    else unread();
  }

  /** The outcome of a condition, as far as the sources show. */
  private decide(test: Node): Verdict {
    if (isGuard(test)) return 'yes';
    if (test.kind === 'boolean') return test.value ? 'yes' : 'no';
    if (test.kind === 'isset') {
      const known = (test.variables as Node[]).every(one => this.valueOf(one) !== undefined);
      return known ? 'yes' : 'maybe';
    }
    if (test.kind === 'bin' && (test.type === '&&' || test.type === 'and')) {
      const both = [this.decide(test.left as Node), this.decide(test.right as Node)];
      return both.includes('no') ? 'no' : both.includes('maybe') ? 'maybe' : 'yes';
    }
    if (test.kind === 'unary' && test.type === '!') {
      return ({ yes: 'no', no: 'yes', maybe: 'maybe' } as const)[this.decide(test.what as Node)];
    }
    if (test.kind !== 'call' || !/^(?:file_exists|is_file|is_readable)$/.test(nameOfCall(test)))
      return 'maybe';
    const [asked] = test.arguments as Node[];
    const value = asked && this.valueOf(asked);
    const path = value === undefined ? undefined : pathOfValue(value, this.scope.file);
    if (path === undefined) return 'maybe';
    if (!this.sources.has(path)) this.wanted.add(path);
    return this.sources.get(path) === undefined ? 'no' : 'yes';
  }

  /** The name of what is assigned to, or undefined where running the code would show. */
  private pathOf(left: Node): string | undefined {
    if (left.kind === 'variable') return typeof left.name === 'string' ? `$${left.name}` : undefined;
    if (left.kind !== 'offsetlookup') return undefined;
    const outer = this.pathOf(left.what as Node);
    if (outer === undefined) return undefined;
    if (!left.offset) return `${outer}.${this.lengthOf(outer)}`;
    const key = this.valueOf(left.offset as Node);
    if (key === undefined) return undefined;
    return outer === '$GLOBALS' ? `$${key}` : `${outer}.${key}`;
  }

  private lengthOf(path: string): number {
    let length = 0;
    while (this.values.has(`${path}.${length}`)) length++;
    return length;
  }

  private assign(path: string, right: Node, conditional: boolean): void {
    if (right.kind !== 'array') {
      this.note(path, right, conditional, false);
      return;
    }
    if (!conditional) this.forget(path);
    let index = 0;
    for (const item of right.items as (Node | null)[]) {
      if (item?.kind !== 'entry') continue;
      const key = item.key ? this.valueOf(item.key as Node) : String(index++);
      if (key !== undefined) this.assign(`${path}.${key}`, item.value as Node, conditional);
    }
  }

  private forget(path: string | undefined): void {
    if (path === undefined) return;
    this.values.delete(path);
    for (const key of this.values.keys()) if (key.startsWith(`${path}.`)) this.values.delete(key);
  }

  private note(key: string, node: Node, conditional: boolean, firstCounts: boolean): void {
    const worth: Worth | undefined =
      node.kind === 'assignref' || node.kind === 'assign' ? undefined : evaluate(node, this.scope);
    const along = worth !== undefined && movesAlong(worth.value);
    const value: PhpValue = {
      value: along ? undefined : worth?.value,
      source: this.sourceOf(node),
      file: this.scope.file,
      start: node.loc!.start.offset,
      end: node.loc!.end.offset,
      line: node.loc!.start.line,
      conditional,
      literal: literals[node.kind],
      environment: worth?.environment,
      movesAlong: along,
    };
    const before = this.values.get(key);
    if (!firstCounts && !conditional) this.forget(key);
    if (!before) {
      this.values.set(key, value);
      return;
    }
    const decided = firstCounts ? before : value;
    if (!decided.conditional) this.values.set(key, decided);
    else if (before.value !== value.value) this.values.set(key, { ...decided, value: undefined });
  }

  private valueOf(node: Node): ByteString | undefined {
    return evaluate(node, this.scope)?.value;
  }

  private sourceOf(node: Node): string {
    return this.scope.source.slice(node.loc!.start.offset, node.loc!.end.offset);
  }

  private scopeOf(file: string): Scope {
    return {
      file,
      source: this.sources.get(file) ?? ('' as ByteString),
      named: name => this.values.get(name)?.value ?? this.around.givens?.[name],
      environment: name => this.environment.get(name),
      asksEnvironment: () => {
        for (const path of environmentFiles) if (!this.sources.has(path)) this.wanted.add(path);
      },
    };
  }
}

/** What loads libraries sets nothing of a site. */
const anyLibrary = /(?:^|\/)vendor\//;

const literals: Readonly<Record<string, PhpValue['literal']>> = {
  string: 'string',
  nowdoc: 'string',
  number: 'number',
  boolean: 'boolean',
};

/** Where applications keep the variables that they read into the environment, the nearest last. */
const environmentFiles = ['../.env', '.env'];

function environmentOf(sources: Sources): Map<string, EnvironmentSetting> {
  const settings = new Map<string, EnvironmentSetting>();
  for (const file of environmentFiles) {
    const source = sources.get(file);
    if (source === undefined) continue;
    for (const [key, { value, line, start, end }] of readDotenv(source))
      settings.set(key, { value, file, line, start, end });
  }
  return settings;
}
