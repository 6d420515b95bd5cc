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
}

/** What a PHP configuration file sets. The first definition of a constant and the last of a variable count. */
export interface PhpSettings {
  readonly constants: ReadonlyMap<string, PhpValue>;
  readonly variables: ReadonlyMap<string, PhpValue>;
}

interface Node {
  readonly kind: string;
  readonly loc?: { start: { offset: number; line: number }; end: { offset: number } };
  readonly [key: string]: unknown;
}

const largest = 1024 * 1024;

/**
 * Parses PHP source and reads the constants and variables that it sets, without running anything.
 * @returns undefined when it is too large or cannot be parsed
 */
export function readPhp(source: ByteString): PhpSettings | undefined {
  if (source.length > largest) return undefined;
  // The parser keeps its state in the instance; one for each file is its documented use.
  const engine = new parser.Engine({ ast: { withPositions: true }, parser: { extractDoc: false } });
  let program: Node;
  try {
    program = engine.parseCode(source, 'configuration') as unknown as Node;
  } catch {
    return undefined;
  }
  const constants = new Map<string, PhpValue>();
  const variables = new Map<string, PhpValue>();
  for (const node of nodesOf(program)) {
    if (node.kind === 'call') {
      const [name, value] = argumentsOfDefine(node);
      const key = name && constantValue(name, source);
      if (key !== undefined && value && !constants.has(key)) constants.set(key, phpValue(value, source));
    }
    if (node.kind === 'assign' && node.operator === '=') {
      const left = node.left as Node;
      if (left.kind === 'variable' && typeof left.name === 'string') {
        variables.set(left.name, phpValue(node.right as Node, source));
      }
    }
  }
  return { constants, variables };
}

/** A PHP single-quoted string literal that is worth exactly these bytes. */
export function phpLiteral(value: ByteString): ByteString {
  return asBytes(`'${value.replace(/[\\']/g, '\\$&')}'`);
}

/** Every node, outer before inner, in the order of the source; function and class bodies are not entered. */
function* nodesOf(root: Node): Generator<Node> {
  const stack: unknown[] = [root];
  while (stack.length > 0) {
    const item = stack.pop();
    if (Array.isArray(item)) {
      for (let i = item.length - 1; i >= 0; i--) stack.push(item[i]);
    } else if (item && typeof item === 'object' && typeof (item as Node).kind === 'string') {
      const node = item as Node;
      yield node;
      if (['function', 'class', 'closure', 'arrowfunc', 'method'].includes(node.kind)) continue;
      const inner = Object.keys(node).filter(key => key !== 'loc' && key !== 'kind');
      for (let i = inner.length - 1; i >= 0; i--) stack.push(node[inner[i]!]);
    }
  }
}

function argumentsOfDefine(call: Node): readonly Node[] {
  const what = call.what as Node;
  const name = what.kind === 'name' && typeof what.name === 'string' ? what.name.replace(/^\\/, '') : '';
  return name.toLowerCase() === 'define' ? (call.arguments as Node[]) : [];
}

function phpValue(node: Node, source: ByteString): PhpValue {
  const start = node.loc!.start.offset;
  const end = node.loc!.end.offset;
  return {
    value: constantValue(node, source),
    source: source.slice(start, end),
    start,
    end,
    line: node.loc!.start.line,
  };
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
