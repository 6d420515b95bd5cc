import { UsageError } from '../errors.js';
import { type Address, formatAddress, parseAddress } from './address.js';

/** An old address and its new one. */
interface AddressPair {
  readonly kind: 'address';
  readonly from: Address;
  readonly to: Address;
}

/** An absolute path on the old server and its new one, as segments. */
interface PathPair {
  readonly kind: 'path';
  readonly from: readonly string[];
  readonly to: readonly string[];
}

export type Pair = AddressPair | PathPair;

/**
 * Reads a pair: two addresses, or two absolute paths on the servers.
 * @throws UsageError when the two are of different kinds, equal, or cannot be read.
 */
export function parsePair(from: string, to: string): Pair {
  const wrong = (cause: string, remedy: string) =>
    new UsageError({ doing: `Reading the pair ${from} → ${to}`, cause, remedy });
  const pair = isPath(from)
    ? isPath(to) && ({ kind: 'path', from: segmentsOf(from, wrong), to: segmentsOf(to, wrong) } as const)
    : !isPath(to) && ({ kind: 'address', from: parseAddress(from), to: parseAddress(to) } as const);
  if (!pair) {
    throw wrong('one is a path and the other is not', 'Give two addresses, or two absolute paths');
  }
  if (pair.kind === 'path' && pair.from.length === 0) {
    throw wrong('the old path is the root', 'Name the folder that the site was in');
  }
  if (pairText(pair).from === pairText(pair).to) {
    throw wrong('old and new are equal', 'Leave the pair out, or correct one of the two');
  }
  return pair;
}

/** Both sides of a pair, as an administrator writes them. */
export function pairText(pair: Pair): { from: string; to: string } {
  if (pair.kind === 'address') return { from: formatAddress(pair.from), to: formatAddress(pair.to) };
  return { from: `/${pair.from.join('/')}`, to: `/${pair.to.join('/')}` };
}

/**
 * The pairs that follow from the addresses of a sheet: the old address and each of its other addresses, to
 * the new one. An address that is already the new one makes no pair.
 */
export function pairsOfMove(old: string, also: readonly string[], next: string): Pair[] {
  const to = formatAddress(parseAddress(next));
  return [old, ...also]
    .filter(from => formatAddress(parseAddress(from)) !== to)
    .map(from => parsePair(from, to));
}

function isPath(text: string): boolean {
  return text.startsWith('/') && !text.startsWith('//');
}

function segmentsOf(path: string, wrong: (cause: string, remedy: string) => UsageError): string[] {
  if (/['"\\\x00-\x1f]/.test(path)) {
    throw wrong('a path holds a quote, a backslash or a control character', 'Rewrite such paths by hand');
  }
  return path.split('/').filter(Boolean);
}
