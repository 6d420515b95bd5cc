import type { Finding } from '../../core/findings/findings.js';
import { type Left, LeftList } from '../../core/rewrite/report/left-list.js';
import type { RewriteSummary } from '../../core/rewrite/report/summary.js';
import { familyNamed } from '../../core/site/families/families.js';
import { FindingLog, type StepRun } from '../move/step.js';
import { crateTablesFindings, othersOfCrate } from '../move/tables.js';
import { prefixChangeOf } from '../move/terms.js';
import { rewriteCrateDump, rewriteCrateFiles } from './crate.js';
import { rewriteFindings } from './findings.js';
import { mostListed } from './standalone-options.js';

/** What a rewriting of the crate would do. Nothing is written, in the crate or the journal. */
export interface RewriteTrial {
  readonly dryRun: true;
  readonly dump: RewriteSummary | undefined;
  readonly files: RewriteSummary;
  readonly prefix: { readonly from: string; readonly to: string } | undefined;
  readonly findings: readonly Finding[];
  /** What would be left one by one, where that was asked for. */
  readonly left: readonly Left[] | undefined;
  readonly leftMore: number;
  readonly seconds: number;
}

/** Counts what a rewriting of the crate would change, as the sheet is now. */
export async function tryRewriting(run: StepRun, whereLeft: boolean): Promise<RewriteTrial> {
  const { move } = run;
  const began = performance.now();
  const manifest = await move.crate.manifest();
  const left = whereLeft ? new LeftList(mostListed) : undefined;
  const log = new FindingLog(run.events);
  log.add(...crateTablesFindings(move, manifest));
  if (!log.stops) log.add(...othersOfCrate(move, manifest));
  const done = await rewriteCrateDump(run, manifest, { to: undefined, left });
  if (done) log.add(...rewriteFindings(done.summary));
  const files = await rewriteCrateFiles(run, manifest, { write: false, left });
  const prefix = prefixChangeOf(move, familyNamed(manifest.from.family), manifest.from.prefix);
  return {
    dryRun: true,
    dump: done?.summary,
    files,
    prefix: prefix && { from: prefix.from, to: prefix.to },
    findings: log.all,
    left: left?.list,
    leftMore: left?.more ?? 0,
    seconds: Math.round(performance.now() - began) / 1000,
  };
}
