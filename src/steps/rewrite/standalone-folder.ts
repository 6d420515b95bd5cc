import { resolve } from 'node:path';
import { bufferOf, textOf } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';
import { leftOut } from '../../core/files/patterns.js';
import { isTextFile, largestText } from '../../core/files/text-files.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { countLeftInValue, rewriteSingleValue } from '../../core/rewrite/carriers/single-value.js';
import { summarise } from '../../core/rewrite/report/summary.js';
import { Tally } from '../../core/rewrite/report/tally.js';
import { sizeText } from '../../core/text/sizes.js';
import { LocalFiles } from '../../ends/files/local.js';
import { replaceFile } from '../../ends/files/replace-file.js';
import type { EventSink } from '../move/events.js';
import { readAll } from '../move/read-site.js';
import { freeName } from './free-name.js';
import { refuseDumpOptions, type StandaloneDone, type StandalonePlan } from './standalone-options.js';

/**
 * Rewrites the text files of a folder where they lie. What a file was before is kept in a folder beside it.
 * @throws UsageError when the wishes do not fit a folder
 */
export async function rewriteFolder(
  { wish, rules, left }: StandalonePlan,
  events: EventSink,
  signal: AbortSignal,
): Promise<StandaloneDone> {
  refuseDumpOptions(wish, 'a folder', 'files are rewritten in place');
  const root = resolve(wish.input);
  const files = new LocalFiles(root);
  const leaves = leftOut(wish.leave);
  const names = leftOut(wish.only);
  const tally = new Tally();
  const findings: Finding[] = [];
  const keep = freeName(`${root}.before-rewriting`);
  const kept = new LocalFiles(keep);
  let changed = 0;
  const entries = [];
  for await (const entry of files.list(() => false, signal)) if (entry.type === 'file') entries.push(entry);
  for (const [done, entry] of entries.entries()) {
    signal.throwIfAborted();
    events({ type: 'progress', what: 'files', done, of: entries.length, unit: 'files' });
    const name = textOf(entry.path);
    if (wish.only.length > 0 ? !names(entry) : !isTextFile(entry.path)) continue;
    if (entry.size > largestText) {
      findings.push(tooLarge(entry));
      continue;
    }
    const before = await readAll(files, entry.path);
    // Text has no NUL in it; what has is left, whatever its name.
    if (before.includes('\0')) continue;
    const place = tally.at('files', name);
    if (leaves(entry)) {
      countLeftInValue(before, rules, place, 'left on purpose', left);
      continue;
    }
    const after = rewriteSingleValue(before, rules, place, left);
    if (after === undefined) continue;
    changed++;
    if (wish.dryRun) continue;
    await kept.write(entry.path, bufferOf(before), entry);
    await replaceFile(Buffer.concat([Buffer.from(`${root}/`), bufferOf(entry.path)]), bufferOf(after));
  }
  const summary = summarise(rules.pairs, tally.all(), []);
  const wrote =
    changed === 0
      ? `no file of ${root}`
      : `${changed} ${changed === 1 ? 'file' : 'files'} in ${root}; as they were, they are kept in ${keep}`;
  return { summary, findings, wrote };
}

function tooLarge({ path, size }: FileEntry): Finding {
  return finding({
    level: 'warn',
    code: 'file-too-large',
    place: textOf(path),
    what: `The file has ${sizeText(size)}, too much to rewrite as one text, and was left`,
    remedy: 'If it is a dump, rewrite it on its own; otherwise look into it by hand',
  });
}
