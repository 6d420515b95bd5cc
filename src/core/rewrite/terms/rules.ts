import type { Address } from '../../address/address.js';
import { type Pair, pairText } from '../../address/pairs.js';
import { bytesOfText } from '../../bytes.js';
import type { Workbench } from '../../kernels/workbench.js';
import { type AnchorSearch, anchorSearch } from './anchors.js';

/** One address to look for at a host, the longest first. `to` is undefined for an address that stays as it is. */
export interface AddressTarget {
  readonly pair: number;
  readonly from: Address;
  readonly to: Address | undefined;
}

/** A path of an old address, to be found where HTML, CSS or JSON puts a link without its host. */
interface RootTarget {
  readonly pair: number;
  readonly segments: readonly string[];
  readonly to: readonly string[];
}

interface PathTarget {
  readonly pair: number;
  readonly segments: readonly string[];
  readonly to: readonly string[] | undefined;
}

/** What to look for, prepared for the byte path. Made once a run by `compileRules`. */
export interface Rules {
  /** Where the byte path works. */
  readonly bench: Workbench;
  readonly pairs: readonly { readonly from: string; readonly to: string }[];
  /** Finds every place at which a pair could begin; undefined where there is no pair. */
  readonly anchors: AnchorSearch | undefined;
  /** By the host as bytes in lower case. */
  readonly hosts: ReadonlyMap<string, readonly AddressTarget[]>;
  readonly paths: readonly PathTarget[];
  /** The longest first. */
  readonly roots: readonly RootTarget[];
  readonly mail: boolean;
  readonly bareHosts: boolean;
  readonly mend: boolean;
  readonly openBase64: boolean;
}

export interface RuleOptions {
  /** Whether mail addresses at an old host move too. */
  readonly mail?: boolean;
  /** Whether an old host without a scheme is rewritten too. */
  readonly bareHosts?: boolean;
  /** Whether the lengths of damaged serialized values are corrected where they follow without doubt. */
  readonly mend?: boolean;
  /** Whether old addresses in Base64 are rewritten; otherwise they are reported only. */
  readonly openBase64?: boolean;
}

/**
 * Prepares pairs for matching. Where a new address is at an old host (`a.example` → `a.example/blog`), it is
 * looked for as well and kept, so that what is already rewritten is left alone.
 */
export function compileRules(bench: Workbench, pairs: readonly Pair[], options: RuleOptions = {}): Rules {
  const hosts = new Map<string, AddressTarget[]>();
  const paths: PathTarget[] = [];
  pairs.forEach((pair, index) => {
    if (pair.kind === 'address') {
      for (const host of hostForms(pair.from))
        add(hosts, host, { pair: index, from: pair.from, to: pair.to });
    } else {
      paths.push({ pair: index, segments: pair.from.map(bytesOfText), to: pair.to.map(bytesOfText) });
    }
  });
  pairs.forEach((pair, index) => {
    if (pair.kind === 'address') {
      for (const host of hostForms(pair.to)) {
        if (hosts.has(host)) add(hosts, host, { pair: index, from: pair.to, to: undefined });
      }
    } else if (pair.from.every((segment, i) => segment === pair.to[i])) {
      paths.push({ pair: index, segments: pair.to.map(bytesOfText), to: undefined });
    }
  });
  const roots: RootTarget[] = [];
  pairs.forEach((pair, index) => {
    if (pair.kind !== 'address') return;
    const { segments } = pair.from;
    if (segments.length > 0 && segments.join('/') !== pair.to.segments.join('/')) {
      roots.push({ pair: index, segments, to: pair.to.segments });
    }
  });
  roots.sort(
    (a, b) => b.segments.length - a.segments.length || b.segments.join().length - a.segments.join().length,
  );
  for (const targets of hosts.values()) targets.sort((a, b) => weight(b) - weight(a));
  paths.sort(
    (a, b) => b.segments.length - a.segments.length || b.segments.join().length - a.segments.join().length,
  );
  return {
    pairs: pairs.map(pairText),
    bench,
    anchors: anchorSearch(
      bench,
      [...hosts.keys()],
      paths.map(path => path.segments),
      roots.map(root => `/${root.segments[0]}`),
    ),
    hosts,
    paths,
    roots,
    mail: options.mail ?? false,
    bareHosts: options.bareHosts ?? false,
    mend: options.mend ?? false,
    openBase64: options.openBase64 ?? false,
  };
}

function add(hosts: Map<string, AddressTarget[]>, host: string, target: AddressTarget): void {
  const targets = hosts.get(host);
  if (targets) targets.push(target);
  else hosts.set(host, [target]);
}

/** A longer path comes before a shorter; what is named as an old address before the same kept as a new one. */
function weight(target: AddressTarget): number {
  const { from, to } = target;
  return from.segments.length * 1e6 + from.segments.join('/').length * 2 + (to === undefined ? 0 : 1);
}

function hostForms(address: Address): Set<string> {
  return new Set([address.host, bytesOfText(address.unicodeHost)].map(lowerBytes));
}

/** Letters A to Z in lower case; bytes of other characters stay. */
function lowerBytes(host: string): string {
  return host.replace(/[A-Z]+/g, letters => letters.toLowerCase());
}
