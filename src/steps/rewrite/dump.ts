import { basename } from 'node:path';
import { DumpFitter } from '../../core/database/dump-fitter.js';
import type { Fitted } from '../../core/database/fitting.js';
import type { KnownServer } from '../../core/database/known-servers.js';
import type { Workbench } from '../../core/kernels/workbench.js';
import { DumpRewriter } from '../../core/rewrite/carriers/dump.js';
import { compileDumpTerms, type DumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import type { LeftList } from '../../core/rewrite/report/left-list.js';
import { type RewriteSummary, summarise } from '../../core/rewrite/report/summary.js';
import type { Outlet, RefusedStatement } from '../../core/sql/scanner.js';
import { readDump } from '../../ends/database/dump/reader.js';
import { DumpWriter, type WrittenDump } from '../../ends/database/dump/writer.js';
import type { EventSink } from '../move/events.js';
import type { PartsFolder } from './split-dump.js';

/** Bytes that may wait for the disk while the next are worked on. */
const mayWait = 8 * 1024 * 1024;

/** A dump to rewrite on its own. */
export interface DumpJob {
  readonly bench: Workbench;
  /** A path, or `-` for standard input. */
  readonly from: string;
  /** A path, `-` for standard output, pieces, or undefined for a dry run. */
  readonly to: string | PartsFolder | undefined;
  readonly terms: DumpTerms;
  /** Takes what is left one by one. */
  readonly left?: LeftList | undefined;
  /** The server to fit it to, where that is known. */
  readonly server?: KnownServer | undefined;
  /** Bytes of the file, for progress; 0 where it is not known. */
  readonly size: number;
  readonly checksum: boolean;
  /** Bytes that the dump may have unpacked, where that is said. */
  readonly unpackedLimit?: number | undefined;
}

export interface DumpDone {
  readonly summary: RewriteSummary;
  /** Undefined for a dry run and for pieces. */
  readonly written: WrittenDump | undefined;
  readonly tables: readonly { readonly table: string; readonly rows: number }[];
  /** What was changed for the server, and tables with a row that is too long for it. */
  readonly fitted: Fitted;
  /** Statements that do more than dumps do. */
  readonly leftOut: readonly RefusedStatement[];
  readonly tooLong: ReadonlyMap<string, number>;
}

/**
 * Rewrites one dump. Nothing bears the new name before it is whole.
 * @throws DamageError when the dump is damaged; nothing is left behind
 */
export async function rewriteDump(job: DumpJob, events: EventSink, signal: AbortSignal): Promise<DumpDone> {
  const { bench, to, server, size } = job;
  const writer = typeof to === 'string' ? new DumpWriter(bench, to, { checksum: job.checksum }) : undefined;
  const parts = typeof to === 'object' ? to : undefined;
  const emit: Outlet | undefined = writer
    ? Object.assign((chunk: Buffer) => writer.take(chunk), { place: () => writer.place() })
    : parts && ((chunk: Buffer) => parts.push(chunk));
  const fitter = server && new DumpFitter(bench, server, emit);
  const what = { ...compileDumpTerms(bench, job.terms), left: job.left };
  const rewriter = new DumpRewriter(what, fitter ? chunk => fitter.push(chunk) : emit);
  const whole = {
    push: (chunk: Buffer, before?: number) => rewriter.push(chunk, before),
    finish: () => {
      rewriter.finish();
      fitter?.finish();
      parts?.finish();
    },
  };
  const progress = (done: number) =>
    events({ type: 'progress', what: basename(job.from), done, of: size, unit: 'bytes' });
  try {
    const after = async () => {
      await writer?.room(mayWait);
      await parts?.settle();
    };
    const { search } = rewriter;
    await readDump(bench, job.from, whole, {
      signal,
      progress,
      after,
      unpackedLimit: job.unpackedLimit,
      search,
    });
    const written = await writer?.finish();
    const tables = [...rewriter.tables.values()];
    return {
      summary: summarise(what.rules.pairs, rewriter.tally.all(), tables),
      written,
      tables,
      leftOut: rewriter.leftOut,
      fitted: fitter?.fitted ?? new Map(),
      tooLong: fitter?.tooLong ?? new Map(),
    };
  } catch (error) {
    await writer?.discard();
    throw error;
  }
}
