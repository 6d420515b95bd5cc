import { parsePair } from '../../core/address/pairs.js';
import { UsageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings/findings.js';
import { Workbench } from '../../core/kernels/workbench.js';
import {
  type CompiledTerms,
  compileDumpTerms,
  type DumpTerms,
} from '../../core/rewrite/carriers/dump-terms.js';
import { LeftList } from '../../core/rewrite/report/left-list.js';
import type { RewriteSummary } from '../../core/rewrite/report/summary.js';
import type { RuleOptions } from '../../core/rewrite/terms/rules.js';

/** A rewriting that the command line asks for, without a move. */
export interface StandaloneOptions extends Required<RuleOptions> {
  /** A dump, a folder, `mysql://user@host/name`, or `-` for a dump on standard input. */
  readonly input: string;
  readonly from: readonly string[];
  readonly to: readonly string[];
  readonly out: string | undefined;
  readonly dryRun: boolean;
  readonly leave: readonly string[];
  readonly only: readonly string[];
  readonly whereLeft: boolean;
  readonly prefixFrom: string | undefined;
  readonly prefixTo: string | undefined;
  /** The server that the dump is to be fitted to. */
  readonly for: string | undefined;
  /** The size of pieces. */
  readonly parts: string | undefined;
  readonly unpackedLimit: string | undefined;
  /** The password of a live database, where it is not in its URL. */
  readonly password: string | undefined;
}

/** The outcome of the wish for every kind of input. */
export interface StandalonePlan extends CompiledTerms {
  readonly wish: StandaloneOptions;
  readonly bench: Workbench;
  readonly terms: DumpTerms;
  readonly left: LeftList | undefined;
}

/** What was done, beyond what was rewritten. */
export interface StandaloneDone {
  readonly summary: RewriteSummary;
  readonly findings: readonly Finding[];
  /** What is reported at the end: where the result is. */
  readonly wrote: string;
}

/** How many of what was left are listed. */
export const mostListed = 10_000;

/**
 * Reads a wish.
 * @throws UsageError when its parts do not fit together
 */
export function planOf(wish: StandaloneOptions): StandalonePlan {
  if (wish.from.length === 0 || wish.from.length !== wish.to.length) {
    throw wrong(
      wish,
      `${wish.from.length} --from and ${wish.to.length} --to were given`,
      'Give an old address and its new one: --from https://a.example --to https://b.example',
    );
  }
  if ((wish.prefixFrom === undefined) !== (wish.prefixTo === undefined))
    throw wrong(wish, 'only one of --prefix-from and --prefix-to was given', 'Give both, or neither');
  const pairs = wish.from.map((from, i) => parsePair(from, wish.to[i]!));
  const { mail, bareHosts, mend, openBase64, leave, only, prefixFrom, prefixTo } = wish;
  const terms: DumpTerms = {
    pairs,
    options: { mail, bareHosts, mend, openBase64 },
    prefix: prefixFrom === undefined ? undefined : { from: prefixFrom, to: prefixTo! },
    family: undefined,
    leave,
    only,
  };
  const bench = new Workbench();
  return {
    wish,
    bench,
    terms,
    ...compileDumpTerms(bench, terms),
    left: wish.whereLeft ? new LeftList(mostListed) : undefined,
  };
}

/** An input as it may be shown: without what is before the host of a URL. */
export function shown(input: string): string {
  return input.replace(/\/\/[^/]*@/, '//');
}

/** Why a wish cannot be. */
export function wrong({ input }: StandaloneOptions, cause: string, remedy: string): UsageError {
  return new UsageError({ doing: `Rewriting ${shown(input)}`, cause, remedy });
}

/**
 * Refuses what only a dump can be asked for.
 * @param what the input is instead, and what is done with it
 * @throws UsageError
 */
export function refuseDumpOptions(wish: StandaloneOptions, what: string, done: string): void {
  const { out, parts, for: server, prefixFrom } = wish;
  const given = { '--out': out, '--parts': parts, '--for': server, '--prefix-from': prefixFrom };
  for (const [option, value] of Object.entries(given)) {
    if (value !== undefined)
      throw wrong(wish, `${option} is for a dump, and this is ${what}`, `Leave it out: ${done}`);
  }
}
