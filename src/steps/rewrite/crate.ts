import { rm } from 'node:fs/promises';
import { bufferOf, textOf } from '../../core/bytes.js';
import type { CheckedEntry } from '../../core/files/entries.js';
import { leftOut } from '../../core/files/patterns.js';
import { isGeneratedText, largestText } from '../../core/files/text-files.js';
import { rewriteSingleValue } from '../../core/rewrite/carriers/single-value.js';
import type { LeftList } from '../../core/rewrite/report/left-list.js';
import { type RewriteSummary, summarise } from '../../core/rewrite/report/summary.js';
import { Tally } from '../../core/rewrite/report/tally.js';
import { familyNamed } from '../../core/site/families/families.js';
import { type CrateManifest, movedFiles, takenDump } from '../../ends/move-folder/crate.js';
import { readAll } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
import { takesOfCrate } from '../move/tables.js';
import { dumpTermsOf, prefixChangeOf, rulesOf } from '../move/terms.js';
import { type DumpDone, rewriteDump } from './dump.js';

/** What a rewriting of the crate writes, and what it notes besides. */
export interface CrateJob {
  /** False for a trial, which counts only. */
  readonly write: boolean;
  readonly left?: LeftList | undefined;
}

/**
 * Rewrites the dump of a crate. @param to the file that is written; undefined for a trial
 * @returns undefined where the crate has no dump
 * @throws DamageError when the dump is not the one that was taken
 */
export async function rewriteCrateDump(
  run: StepRun,
  manifest: CrateManifest,
  { to, left }: { readonly to: string | undefined; readonly left?: LeftList | undefined },
): Promise<DumpDone | undefined> {
  const { move } = run;
  const part = manifest.parts[takenDump];
  if (!part) return undefined;
  await move.crate.verifyPart(takenDump, part);
  const family = familyNamed(manifest.from.family);
  const prefix = prefixChangeOf(move, family, manifest.from.prefix);
  const job = {
    bench: move.bench,
    from: move.crate.at(takenDump),
    to,
    terms: {
      ...dumpTermsOf(move, family),
      prefix: prefix && { from: prefix.from, to: prefix.to },
      takes: takesOfCrate(move, manifest),
    },
    left,
    size: part.bytes,
    checksum: to !== undefined,
  };
  return rewriteDump(job, run.events, run.signal);
}

/**
 * Rewrites the text files that the site itself writes (such as generated style sheets), and those that the sheet names,
 * into `files.moved`.
 */
export async function rewriteCrateFiles(
  run: StepRun,
  manifest: CrateManifest,
  { write, left }: CrateJob,
): Promise<RewriteSummary> {
  const { crate } = run.move;
  const family = familyNamed(manifest.from.family);
  const rules = rulesOf(run.move);
  const tally = new Tally();
  const named = leftOut([...run.move.sheet.rewrite.files, ...(family.addressed ?? [])]);
  if (write) await rm(crate.movedFiles.place, { recursive: true, force: true });
  async function* moved(): AsyncIterable<CheckedEntry> {
    for await (const entry of crate.entries()) {
      const { path, type, size } = entry;
      run.signal.throwIfAborted();
      const isWanted =
        named({ path, type }) ||
        (isGeneratedText(path) && family.generated.some(folder => path.startsWith(folder)));
      if (type !== 'file' || size > largestText || !isWanted) continue;
      const before = await readAll(crate.files, path);
      const rewritten = rewriteSingleValue(before, rules, tally.at('files', textOf(path)), left);
      if (rewritten === undefined || !write) continue;
      const after = bufferOf(rewritten);
      await crate.movedFiles.write(path, after, entry);
      const sums = await crate.movedFiles.checksums([path], run.signal);
      yield { ...entry, size: after.length, sha256: sums.get(path) };
    }
  }
  if (write) await crate.writeEntries(movedFiles, moved());
  else for await (const _ of moved());
  return summarise(rules.pairs, tally.all(), []);
}
