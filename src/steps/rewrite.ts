import { rm } from 'node:fs/promises';
import { bufferOf, textOf } from '../core/bytes.js';
import type { CheckedEntry } from '../core/files/entries.js';
import { leftOut } from '../core/files/patterns.js';
import { isGeneratedText, largestText } from '../core/files/text-files.js';
import { rewriteSingleValue } from '../core/rewrite/carriers/single-value.js';
import type { RewriteSummary } from '../core/rewrite/report/summary.js';
import { summarise } from '../core/rewrite/report/summary.js';
import { Tally } from '../core/rewrite/report/tally.js';
import { familyNamed } from '../core/site/families/families.js';
import type { Family } from '../core/site/families/family.js';
import { movedDump, movedFiles, takenDump } from '../ends/move-folder/crate.js';
import type { CratePart } from '../ends/move-folder/crate-part.js';
import { readAll } from './move/read-site.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { crateTablesFindings, othersOfCrate, tablesOfCrate } from './move/tables.js';
import { dumpTermsOf, prefixChangeOf, ruleOptions, rulesOf } from './move/terms.js';
import { rewriteDump } from './rewrite/dump.js';
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
    const part = manifest.parts[takenDump];
    const { others } = tablesOfCrate(move, manifest);
    findings.add(...crateTablesFindings(move, manifest));
    if (!findings.stops) findings.add(...othersOfCrate(move, manifest));
    if (findings.stops) {
      const files = summarise([], [], []);
      return { result: { dump: undefined, files, moved: undefined, prefix: undefined }, brief: {} };
    }
    let dump: RewriteSummary | undefined;
    let moved: CratePart | undefined;
    if (part) {
      await crate.verifyPart(takenDump, part);
      const job = {
        bench: move.bench,
        from: crate.at(takenDump),
        to: crate.at(movedDump),
        terms: {
          ...dumpTermsOf(move, family),
          prefix: prefix && { from: prefix.from, to: prefix.to },
          without: others.map(({ table }) => table),
        },
        size: part.bytes,
        checksum: true,
      };
      const { summary, written } = await rewriteDump(job, run.events, run.signal);
      dump = summary;
      moved = { bytes: written!.bytes, sha256: written!.sha256! };
      findings.add(...rewriteFindings(summary));
    }
    const files = await rewriteFiles(run, family);
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

/**
 * Rewrites the text files that the site itself writes (such as generated style sheets), and those that the sheet names,
 * into `files.moved`.
 */
async function rewriteFiles(run: StepRun, family: Family): Promise<RewriteSummary> {
  const { crate } = run.move;
  const rules = rulesOf(run.move);
  const tally = new Tally();
  const named = leftOut(run.move.sheet.rewrite.files);
  await rm(crate.movedFiles.place, { recursive: true, force: true });
  async function* moved(): AsyncIterable<CheckedEntry> {
    for await (const entry of crate.entries()) {
      const { path, type, size } = entry;
      run.signal.throwIfAborted();
      const isWanted =
        named({ path, type }) ||
        (isGeneratedText(path) && family.generated.some(folder => path.startsWith(folder)));
      if (type !== 'file' || size > largestText || !isWanted) continue;
      const before = await readAll(crate.files, path);
      const rewritten = rewriteSingleValue(before, rules, tally.at('files', textOf(path)));
      if (rewritten === undefined) continue;
      const after = bufferOf(rewritten);
      await crate.movedFiles.write(path, after, entry);
      const sums = await crate.movedFiles.checksums([path], run.signal);
      yield { ...entry, size: after.length, sha256: sums.get(path) };
    }
  }
  await crate.writeEntries(movedFiles, moved());
  return summarise(rules.pairs, tally.all(), []);
}
