import parser from 'php-parser';
import { asBytes, type ByteString } from '../bytes.js';

/** An expression in PHP source: what it is worth if that can be seen without running it, and where it stands. */
export interface PhpValue {
  /** The bytes of a string, number or boolean that the source fixes; undefined where it depends on more. */
  readonly value: ByteString | undefined;
  /** The expression as it stands. */
  readonly source: string;
  readonly start: number;
  readonly end: number;
  readonly line: number;
  /** Whether a condition decides if this is carried out; `defined() ||` and `if (!defined())` are none. */
  readonly conditional: boolean;
}

/**
 * What a PHP configuration file sets, by the name it is read under: a constant `DB_NAME`, a variable
 * `$table_prefix`, an element of an array `$databases.default.default.database`, a class's property `JConfig.db`.
 */
export type PhpSettings = ReadonlyMap<string, PhpValue>;

interface Node {
  readonly kind: string;
  readonly loc?: { start: { offset: number; line: number }; end: { offset: number } };
  readonly [key: string]: unknown;
}

const largest = 1024 * 1024;

/**
 * Parses PHP source and reads what it sets at its top level, without running anything. Of a constant the first
 * definition counts, of anything else the last; where a condition decides between two, the value is undefined.
 * @returns undefined when it is too large or cannot be parsed
 */
export function readPhp(source: ByteString): PhpSettings | undefined {
  if (source.length > largest) return undefined;
  // The parser keeps its state in the instance; one for each file is its documented use.
  const engine = new parser.Engine({ ast: { withPositions: true }, parser: { extractDoc: false } });
  try {
    const program = engine.parseCode(source, 'configuration') as unknown as Node;
    return new Settings(source).read(program);
  } catch {
    return undefined;
  }
}

/** Goes through a program and notes what it sets. */
class Settings {
  private readonly values = new Map<string, PhpValue>();
  private readonly source: ByteString;

  constructor(source: ByteString) {
    this.source = source;
  }

  read(program: Node): PhpSettings {
    for (const { node, conditional } of nodesOf(program)) {
      if (node.kind === 'call') {
        const [name, value] = argumentsOfDefine(node);
        const key = name && constantValue(name, this.source);
        if (key !== undefined && value) this.note(key, value, conditional, true);
      } else if (node.kind === 'constantstatement') {
        for (const { name, value } of node.constants as { name: Node; value: Node }[]) {
          this.note(String(name.name), value, conditional, true);
        }
      } else if (node.kind === 'assign' && node.operator === '=') {
        const path = this.pathOf(node.left as Node);
        if (path !== undefined) this.assign(path, node.right as Node, conditional);
      } else if (node.kind === 'class') {
        this.readClass(node);
      }
    }
    return this.values;
  }

  private readClass(node: Node): void {
    for (const statement of node.body as Node[]) {
      if (statement.kind !== 'propertystatement') continue;
      for (const { name, value } of statement.properties as { name: Node; value: Node | null }[]) {
        if (value) this.assign(`${String((node.name as Node).name)}.${String(name.name)}`, value, false);
      }
    }
  }

  /** The name of what is assigned to, or undefined where running the code would tell. */
  private pathOf(left: Node): string | undefined {
    if (left.kind === 'variable') return typeof left.name === 'string' ? `$${left.name}` : undefined;
    if (left.kind !== 'offsetlookup' || !left.offset) return undefined;
    const outer = this.pathOf(left.what as Node);
    const key = constantValue(left.offset as Node, this.source);
    return outer === undefined || key === undefined ? undefined : `${outer}.${key}`;
  }

  private assign(path: string, right: Node, conditional: boolean): void {
    if (right.kind !== 'array') {
      this.note(path, right, conditional, false);
      return;
    }
    if (!conditional) {
      for (const key of this.values.keys()) if (key.startsWith(`${path}.`)) this.values.delete(key);
    }
    let index = 0;
    for (const item of right.items as (Node | null)[]) {
      if (item?.kind !== 'entry') continue;
      const key = item.key ? constantValue(item.key as Node, this.source) : String(index++);
      if (key !== undefined) this.assign(`${path}.${key}`, item.value as Node, conditional);
    }
  }

  private note(key: string, node: Node, conditional: boolean, firstCounts: boolean): void {
    const value: PhpValue = {
      value: constantValue(node, this.source),
      source: this.source.slice(node.loc!.start.offset, node.loc!.end.offset),
      start: node.loc!.start.offset,
      end: node.loc!.end.offset,
      line: node.loc!.start.line,
      conditional,
    };
    const before = this.values.get(key);
    if (!before) {
      this.values.set(key, value);
      return;
    }
    const decided = firstCounts ? before : value;
    if (!decided.conditional) this.values.set(key, decided);
    else if (before.value !== value.value) this.values.set(key, { ...decided, value: undefined });
  }
}

/** A PHP single-quoted string literal that is worth exactly these bytes. */
export function phpLiteral(value: ByteString): ByteString {
  return asBytes(`'${value.replace(/[\\']/g, '\\$&')}'`);
}

/**
 * Every node, outer before inner, in the order of the source, and whether a condition decides on it. Bodies of
 * functions and classes are not entered: they are not carried out when the file is read.
 */
function* nodesOf(root: Node): Generator<{ node: Node; conditional: boolean }> {
  const stack: { item: unknown; conditional: boolean }[] = [{ item: root, conditional: false }];
  for (let next = stack.pop(); next; next = stack.pop()) {
    const { item, conditional } = next;
    if (Array.isArray(item)) {
      for (let i = item.length - 1; i >= 0; i--) stack.push({ item: item[i], conditional });
    } else if (item && typeof item === 'object' && typeof (item as Node).kind === 'string') {
      const node = item as Node;
      yield { node, conditional };
      if (closed.has(node.kind)) continue;
      const decides = branching.has(node.kind) && !(node.kind === 'if' && onlyGuards(node));
      const inner = Object.keys(node).filter(key => key !== 'loc' && key !== 'kind');
      for (let i = inner.length - 1; i >= 0; i--) {
        stack.push({ item: node[inner[i]!], conditional: conditional || decides });
      }
    }
  }
}

const closed = new Set(['function', 'class', 'closure', 'arrowfunc', 'method', 'interface', 'trait']);
const branching = new Set(['if', 'switch', 'while', 'for', 'foreach', 'try', 'retif']);

/** `if ( ! defined( 'X' ) )` without an else: a guard, under which the first definition counts all the same. */
function onlyGuards({ test, alternate }: Node): boolean {
  const negated = test as Node;
  if (alternate || negated.kind !== 'unary' || negated.type !== '!') return false;
  const call = negated.what as Node;
  return (
    call.kind === 'call' &&
    String((call.what as Node).name)
      .replace(/^\\/, '')
      .toLowerCase() === 'defined'
  );
}

function argumentsOfDefine(call: Node): readonly Node[] {
  const what = call.what as Node;
  const name = what.kind === 'name' && typeof what.name === 'string' ? what.name.replace(/^\\/, '') : '';
  return name.toLowerCase() === 'define' ? (call.arguments as Node[]) : [];
}

/** What an expression is worth when nothing but the source decides it. */
function constantValue(node: Node, source: ByteString): ByteString | undefined {
  switch (node.kind) {
    case 'string':
      return stringValue(source.slice(node.loc!.start.offset, node.loc!.end.offset));
    case 'nowdoc':
      return asBytes(String(node.value));
    case 'number':
      return asBytes(String(node.value));
    case 'boolean':
      return asBytes(node.value ? '1' : '');
    case 'bin': {
      if (node.type !== '.') return undefined;
      const left = constantValue(node.left as Node, source);
      const right = constantValue(node.right as Node, source);
      return left === undefined || right === undefined ? undefined : asBytes(left + right);
    }
    case 'encapsed':
      return node.type === 'heredoc' ? heredocValue(node) : undefined;
    default:
      return undefined;
  }
}

function heredocValue(node: Node): ByteString | undefined {
  const parts = node.value as { expression: Node }[];
  if (parts.some(part => part.expression.kind !== 'string')) return undefined;
  return asBytes(parts.map(part => String(part.expression.value)).join(''));
}

/** The bytes of a quoted string. https://www.php.net/manual/en/language.types.string.php */
function stringValue(raw: string): ByteString | undefined {
  const text = raw.replace(/^b(?=['"])/i, '');
  if (text.startsWith("'")) return asBytes(text.slice(1, -1).replace(/\\([\\'])/g, '$1'));
  if (!text.startsWith('"')) return undefined;
  return asBytes(
    text
      .slice(1, -1)
      .replace(/\\(?:([nrtvef\\$"])|([0-7]{1,3})|x([0-9A-Fa-f]{1,2})|u\{([0-9A-Fa-f]+)\})/g, escapedBytes),
  );
}

const letters: Record<string, string> = { n: '\n', r: '\r', t: '\t', v: '\v', e: '\x1b', f: '\f' };

function escapedBytes(_: string, letter?: string, octal?: string, hex?: string, unicode?: string): string {
  if (letter !== undefined) return letters[letter] ?? letter;
  if (octal !== undefined) return String.fromCharCode(Number.parseInt(octal, 8) & 255);
  if (hex !== undefined) return String.fromCharCode(Number.parseInt(hex, 16));
  return Buffer.from(String.fromCodePoint(Number.parseInt(unicode!, 16)), 'utf8').toString('latin1');
}
