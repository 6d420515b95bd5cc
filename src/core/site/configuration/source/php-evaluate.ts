import { asBytes, type ByteString } from '../../../bytes.js';
import { type Node, nameOfCall } from './php-node.js';
import { folderOf, valueOfPath } from './php-paths.js';
import { stringValue, unescaped } from './php-strings.js';

/** A setting of a `.env` file: its value, and where the value is written, with its quotes. */
export interface EnvironmentSetting {
  readonly value: ByteString;
  readonly file: string;
  readonly line: number;
  readonly start: number;
  readonly end: number;
}

/** What an expression is worth. */
export interface Worth {
  readonly value: ByteString;
  /** Where the whole of it comes from, if a `.env` file gives it. */
  readonly environment?: EnvironmentSetting | undefined;
}

/** What is known at the place where an expression is. */
export interface Scope {
  readonly source: ByteString;
  readonly file: string;
  /** What a constant or variable is worth here, or undefined where running the code would show. */
  named(name: string): ByteString | undefined;
  /** What a `.env` file sets. */
  environment(name: string): EnvironmentSetting | undefined;
  /** A variable of the environment was asked for. */
  asksEnvironment(): void;
}

/** What an expression is worth when nothing but sources that were read decides it; undefined otherwise. */
export function evaluate(node: Node, scope: Scope): Worth | undefined {
  const value = plainValue(node, scope);
  if (value !== undefined) return { value };
  if (node.kind === 'cast') return evaluate(node.expr as Node, scope);
  // getenv('X') ?: 'fallback' and $_ENV['X'] ?? 'fallback' say what X says, if that is known to be set.
  if (node.kind === 'retif' && node.trueExpr === null) return evaluateEnvironment(node.test as Node, scope);
  if (node.kind === 'bin' && node.type === '??') return evaluateEnvironment(node.left as Node, scope);
  return evaluateEnvironment(node, scope);
}

function plainValue(node: Node, scope: Scope): ByteString | undefined {
  const worthOf = (inner: unknown) => evaluate(inner as Node, scope)?.value;
  switch (node.kind) {
    case 'string':
      return stringValue(scope.source.slice(node.loc!.start.offset, node.loc!.end.offset));
    case 'nowdoc':
    case 'number':
      return asBytes(String(node.value));
    case 'boolean':
      return asBytes(node.value ? '1' : '');
    case 'bin': {
      if (node.type !== '.') return undefined;
      const left = worthOf(node.left);
      const right = left === undefined ? undefined : worthOf(node.right);
      return right === undefined ? undefined : asBytes(left! + right);
    }
    case 'encapsed':
      return joined(node, worthOf);
    case 'assign':
      return node.operator === '=' ? worthOf(node.right) : undefined;
    case 'variable':
      return typeof node.name === 'string' ? scope.named(`$${node.name}`) : undefined;
    case 'name':
      return scope.named(String(node.name).replace(/^\\/, ''));
    case 'magic':
      if (node.value === '__DIR__') return valueOfPath(folderOf(scope.file));
      return node.value === '__FILE__' ? valueOfPath(scope.file) : undefined;
    case 'call':
      return pathCall(node, worthOf);
    default:
      return undefined;
  }
}

/** A string or heredoc with variables in it. */
function joined(node: Node, worthOf: (part: unknown) => ByteString | undefined): ByteString | undefined {
  let whole = '';
  for (const { expression } of node.value as { expression: Node }[]) {
    const raw = String(expression.raw);
    const part =
      expression.kind !== 'string'
        ? worthOf(expression)
        : node.type === 'heredoc' && !raw.includes('\\')
          ? String(expression.value)
          : node.type === 'string'
            ? unescaped(raw)
            : undefined;
    if (part === undefined) return undefined;
    whole += part;
  }
  return asBytes(whole);
}

/** `dirname(__FILE__)`, `dirname(__DIR__, 2)` and `realpath(…)`, of which only where files lie is asked. */
function pathCall(node: Node, worthOf: (part: unknown) => ByteString | undefined): ByteString | undefined {
  const name = nameOfCall(node);
  const [path, levels] = node.arguments as Node[];
  if (!path || (name !== 'dirname' && name !== 'realpath')) return undefined;
  const value = worthOf(path);
  if (value === undefined || name === 'realpath') return value;
  return asBytes(value + '/..'.repeat(Number((levels && worthOf(levels)) ?? 1)));
}

/** `getenv('X')`, `env('X')`, `$_ENV['X']` and `$_SERVER['X']`, where a `.env` file sets X. */
function evaluateEnvironment(node: Node, scope: Scope): Worth | undefined {
  const asked =
    node.kind === 'call' && ['getenv', 'env'].includes(nameOfCall(node))
      ? (node.arguments as Node[])[0]
      : node.kind === 'offsetlookup' && ['_ENV', '_SERVER'].includes(String((node.what as Node).name))
        ? (node.offset as Node | false)
        : undefined;
  if (!asked) return undefined;
  scope.asksEnvironment();
  const name = evaluate(asked, scope)?.value;
  const setting = name === undefined ? undefined : scope.environment(name);
  return setting && { value: setting.value, environment: setting };
}
