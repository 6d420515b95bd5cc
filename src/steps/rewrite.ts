import { type RewriteSummary, summarise } from '../core/rewrite/report/summary.js';
import { familyNamed } from '../core/site/families/families.js';
import { movedDump, takenDump } from '../ends/move-folder/crate.js';
import type { CratePart } from '../ends/move-folder/crate-part.js';
import { leftOutFindings } from './move/left-out.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { crateTablesFindings, othersOfCrate } from './move/tables.js';
import { prefixChangeOf, ruleOptions, rulesOf } from './move/terms.js';
import { rewriteCrateDump, rewriteCrateFiles } from './rewrite/crate.js';
import { rewriteFindings } from './rewrite/findings.js';

export interface RewriteResult {
  readonly dump: RewriteSummary | undefined;
  /** Files that the site had written and that held an old address. */
  readonly files: RewriteSummary;
  readonly moved: CratePart | undefined;
  readonly prefix: { readonly from: string; readonly to: string } | undefined;
}

/** Changes the addresses (and the table prefix) in the crate: the dump, and files that the site has written. */
export async function rewrite(run: StepRun): Promise<StepOutcome<RewriteResult>> {
  const { move } = run;
  const { crate } = move;
  const manifest = await crate.manifest();
  const family = familyNamed(manifest.from.family);
  const prefix = prefixChangeOf(move, family, manifest.from.prefix);
  return doStep(run, 'rewrite', await rewriteInputs(run), async findings => {
    findings.add(...crateTablesFindings(move, manifest));
    if (!findings.stops) findings.add(...othersOfCrate(move, manifest));
    if (findings.stops) {
      const files = summarise([], [], []);
      return { result: { dump: undefined, files, moved: undefined, prefix: undefined }, brief: {} };
    }
    const done = await rewriteCrateDump(run, manifest, { to: crate.at(movedDump) });
    if (done) {
      findings.add(...rewriteFindings(done.summary));
      findings.add(...(await leftOutFindings(crate.at(takenDump), done.leftOut)));
    }
    const dump = done?.summary;
    const moved: CratePart | undefined = done && {
      bytes: done.written!.bytes,
      sha256: done.written!.sha256!,
    };
    const files = await rewriteCrateFiles(run, manifest, { write: true });
    const result = { dump, files, moved, prefix: prefix && { from: prefix.from, to: prefix.to } };
    const occurrences = (dump?.totals.occurrences ?? 0) + files.totals.occurrences;
    return { result, brief: { occurrences, moved: moved?.sha256 } };
  });
}

/** What a rewriting of the crate depends on. */
export async function rewriteInputs({ move }: StepRun): Promise<unknown> {
  const { pairs } = rulesOf(move);
  const { leave, files } = move.sheet.rewrite;
  const prefix = move.sheet.new.database?.prefix;
  const tables = move.sheet.take.database === false ? undefined : move.sheet.take.database.tables;
  return { crate: await move.crate.identity(), pairs, ...ruleOptions(move), leave, files, prefix, tables };
}
