import { stat } from 'node:fs/promises';
import { basename, resolve } from 'node:path';
import { parsePair } from '../core/address/pairs.js';
import { UsageError } from '../core/errors.js';
import { byWeight, type Finding } from '../core/findings.js';
import { DumpRewriter, type DumpRewriting } from '../core/rewrite/dump.js';
import { compileGlobs } from '../core/rewrite/globs.js';
import { compileRules } from '../core/rewrite/rules.js';
import { type RewriteSummary, summarise } from '../core/rewrite/summary.js';
import { wordpress } from '../core/site/wordpress.js';
import { readDump } from '../ends/database/dump-reader.js';
import { DumpWriter, type WrittenDump } from '../ends/database/dump-writer.js';
import { telling } from '../ends/trouble.js';
import type { EventSink } from './events.js';

/** A dump to rewrite by itself. */
export interface DumpJob {
  /** A path, or `-` for standard input. */
  readonly from: string;
  /** A path, `-` for standard output, or undefined for a dry run. */
  readonly to: string | undefined;
  readonly what: DumpRewriting;
  /** Bytes of the file, for progress; 0 where it is not known. */
  readonly size: number;
  readonly checksum: boolean;
}

export interface DumpDone {
  readonly summary: RewriteSummary;
  readonly written: WrittenDump | undefined;
  readonly tables: readonly { readonly table: string; readonly rows: number }[];
}

/**
 * Rewrites one dump. Nothing bears the new name before it is whole.
 * @throws DamageError when the dump is damaged; nothing is left behind
 */
export async function rewriteDump(job: DumpJob, events: EventSink, signal: AbortSignal): Promise<DumpDone> {
  const writer = job.to === undefined ? undefined : new DumpWriter(job.to, { checksum: job.checksum });
  const rewriter = new DumpRewriter(job.what, writer && (chunk => writer.take(chunk)));
  const progress = (done: number) =>
    events({ type: 'progress', what: basename(job.from), done, of: job.size, unit: 'bytes' });
  try {
    await readDump(job.from, rewriter, { signal, progress, after: writer && (() => writer.settle()) });
    const written = await writer?.finish();
    const tables = [...rewriter.tables.values()];
    return { summary: summarise(job.what.rules.pairs, rewriter.tally.all(), tables), written, tables };
  } catch (error) {
    await writer?.discard();
    throw error;
  }
}

/** A rewriting that the command line asks for, of a dump without a move. */
export interface OwnRewriting {
  readonly input: string;
  readonly from: readonly string[];
  readonly to: readonly string[];
  readonly out: string | undefined;
  readonly dryRun: boolean;
  readonly mail: boolean;
  readonly leave: readonly string[];
  readonly prefixFrom: string | undefined;
  readonly prefixTo: string | undefined;
}

export interface OwnOutcome {
  readonly input: string;
  /** Undefined for a dry run. */
  readonly out: string | undefined;
  readonly summary: RewriteSummary;
  readonly findings: readonly Finding[];
  readonly seconds: number;
}

/**
 * Rewrites a dump by itself.
 * @throws UsageError when the wishes do not fit together
 */
export async function rewriteByItself(
  wish: OwnRewriting,
  events: EventSink,
  signal: AbortSignal,
): Promise<OwnOutcome> {
  const wrong = (cause: string, remedy: string) =>
    new UsageError({ doing: `Rewriting ${wish.input}`, cause, remedy });
  if (wish.from.length === 0 || wish.from.length !== wish.to.length) {
    throw wrong(
      `${wish.from.length} --from and ${wish.to.length} --to were given`,
      'Give an old address and its new one: --from https://a.example --to https://b.example',
    );
  }
  if ((wish.out === undefined) !== wish.dryRun) {
    throw wrong(
      wish.dryRun ? '--dry-run and --out were both given' : 'no --out was given',
      'Give --out FILE, or --dry-run to count only',
    );
  }
  if ((wish.prefixFrom === undefined) !== (wish.prefixTo === undefined)) {
    throw wrong('only one of --prefix-from and --prefix-to was given', 'Give both, or neither');
  }
  if (wish.out !== undefined && wish.out !== '-' && resolve(wish.out) === resolve(wish.input)) {
    throw wrong('input and output are the same file', 'Give the new dump another name');
  }
  const rules = compileRules(
    wish.from.map((from, i) => parsePair(from, wish.to[i]!)),
    { mail: wish.mail },
  );
  const prefix =
    wish.prefixFrom === undefined
      ? undefined
      : { from: wish.prefixFrom, to: wish.prefixTo!, data: wordpress.prefixed };
  const size =
    wish.input === '-' ? 0 : (await telling(`Reading the dump ${wish.input}`, () => stat(wish.input))).size;
  const began = performance.now();
  const what = { rules, prefix, leave: compileGlobs(wish.leave) };
  const { summary } = await rewriteDump(
    { from: wish.input, to: wish.out, what, size, checksum: false },
    events,
    signal,
  );
  const seconds = Math.round(performance.now() - began) / 1000;
  return { input: wish.input, out: wish.out, summary, findings: byWeight(rewriteFindings(summary)), seconds };
}

/** What of a rewriting an administrator should know about. */
export function rewriteFindings(summary: RewriteSummary): Finding[] {
  const findings: Finding[] = [];
  for (const place of summary.places) {
    const where = `${place.table}.${place.column}`;
    if (place.damaged > 0) {
      findings.push({
        level: 'warn',
        code: 'value-damaged',
        place: where,
        what: `${place.damaged} ${place.damaged === 1 ? 'value looks' : 'values look'} serialized and cannot be read; left byte for byte (${place.missSamples.damaged})`,
        remedy: 'The site cannot read them either: save the setting anew at the old site, or delete it',
      });
    }
    if (place.table === 'statements' && place.left > 0) {
      findings.push({
        level: 'warn',
        code: 'address-in-statement',
        place: where,
        what: `${place.left} old addresses stand outside of rows and were left (${place.missSamples.left})`,
        remedy: 'Look at the statement; views, triggers and default values are changed by hand',
      });
    }
  }
  const mail = summary.totals.misses['mail address'] ?? 0;
  if (mail > 0) {
    findings.push({
      level: 'note',
      code: 'mail-left',
      place: 'the dump',
      what: `${mail} mail ${mail === 1 ? 'address' : 'addresses'} at an old host ${mail === 1 ? 'was' : 'were'} left`,
      remedy: 'If the mailboxes move too, set rewrite.mail: true',
    });
  }
  return findings;
}
