import { type Node, nameOfCall } from './php-node.js';

/** The outcome of a test: whether what it guards is carried out. */
export type Verdict = 'yes' | 'no' | 'maybe';

/**
 * Every node of a program that may be carried out, outer before inner, in the order of the source, and whether a
 * condition decides on it. Bodies of functions and classes are not entered: reading the file does not run them.
 * @param decide the outcome of a condition, as far as the sources show
 */
export function* nodesOf(
  statements: readonly Node[],
  decide: (test: Node) => Verdict,
): Generator<{ node: Node; conditional: boolean }> {
  const stack: { item: unknown; conditional: boolean }[] = [{ item: statements, conditional: false }];
  for (let next = stack.pop(); next; next = stack.pop()) {
    const { item, conditional } = next;
    if (Array.isArray(item)) {
      for (let i = item.length - 1; i >= 0; i--) stack.push({ item: item[i], conditional });
    } else if (item && typeof item === 'object' && typeof (item as Node).kind === 'string') {
      const node = item as Node;
      yield { node, conditional };
      if (closed.has(node.kind)) continue;
      for (const { inner, verdict } of innerOf(node, decide).toReversed())
        if (verdict !== 'no') stack.push({ item: inner, conditional: conditional || verdict === 'maybe' });
    }
  }
}

const closed = new Set(['function', 'class', 'closure', 'arrowfunc', 'method', 'interface', 'trait', 'enum']);
const branching = new Set(['switch', 'while', 'for', 'foreach', 'try', 'retif', 'do', 'match']);

function innerOf(node: Node, decide: (test: Node) => Verdict): { inner: unknown; verdict: Verdict }[] {
  const opposite = { yes: 'no', no: 'yes', maybe: 'maybe' } as const;
  if (node.kind === 'if') {
    const test = node.test as Node;
    // With an "else" a guard is a choice like any other.
    const verdict = isGuard(test) && node.alternate ? 'maybe' : decide(test);
    return [
      { inner: test, verdict: 'yes' },
      { inner: node.body, verdict },
      { inner: node.alternate, verdict: opposite[verdict] },
    ];
  }
  if (node.kind === 'bin' && /^(?:&&|\|\||and|or)$/.test(String(node.type))) {
    const left = node.left as Node;
    const either = /^(?:\|\||or)$/.test(String(node.type));
    const verdict = either ? (isDefined(left) ? 'yes' : opposite[decide(left)]) : decide(left);
    return [
      { inner: left, verdict: 'yes' },
      { inner: node.right, verdict },
    ];
  }
  return Object.keys(node)
    .filter(key => key !== 'loc' && key !== 'kind')
    .map(key => ({ inner: node[key], verdict: branching.has(node.kind) ? 'maybe' : 'yes' }));
}

/** `! defined( 'X' )`: a guard, under which the first definition of X counts all the same. */
export function isGuard(test: Node): boolean {
  return test.kind === 'unary' && test.type === '!' && isDefined(test.what as Node);
}

function isDefined(node: Node): boolean {
  return node.kind === 'call' && nameOfCall(node) === 'defined';
}
