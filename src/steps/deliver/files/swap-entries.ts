import { setTimeout } from 'node:timers/promises';
import pMap from 'p-map';
import { asBytes, type ByteString } from '../../../core/bytes.js';
import type { FileEntry } from '../../../core/files/entries.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { copyFile } from '../../../ends/files/exchange.js';
import { sha256Of } from '../../../ends/files/sums.js';
import { ledgerOf } from '../../move/ledger.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { maintenancePage, untilSeen } from './gate.js';
import { keptOf, noteKept } from './kept-files.js';
import { isIndex, placeIn, type StagingPaths, topLevel } from './staging.js';

/** A larger front file is renamed like everything else. */
const largestFront = 1 << 20;

/**
 * Puts what is ready in place where the folder itself cannot be renamed: everything in it is renamed one by one. Its front
 * files show a maintenance page meanwhile, and are replaced at last.
 * @returns the paths of what is kept
 */
export async function swapEntries(run: StepRun, staging: StagingPaths): Promise<string[]> {
  const { end, incoming, outgoing, keepsake, place } = staging;
  const before = (await ledgerOf(run.move)).delivered.has(place.text) ? [] : await topLevel(end);
  const fronts = before.filter(isFront);
  if (before.length > 0) {
    await noteKept(run, staging, keepsake, 'first delivery');
    await end.makeFolder(keepsake, 0o700);
    await keepFronts(staging, fronts);
    await showPages(run, staging, fronts);
    for (const { path } of before.filter(entry => !isFront(entry)))
      await end.rename(path, asBytes(`${keepsake}/${path}`));
  }
  await noteDeed(run, 'deliver', { kind: 'put', place: place.text });
  const waiting = await topLevel(placeIn(staging, incoming).open());
  const isReplaced = new Set(fronts.map(({ path }) => path));
  for (const { path } of [...waiting.filter(entry => !isFront(entry)), ...waiting.filter(isFront)]) {
    const from = asBytes(`${incoming}/${path}`);
    if (isReplaced.delete(path)) await end.replace(from, path);
    else await end.rename(from, path);
  }
  for (const path of isReplaced) await end.remove(path);
  await end.remove(outgoing);
  await end.remove(incoming);
  return keptOf(staging);
}

/** A file by which visitors come in: an index file, a script, or what tells the server where they are led. */
function isFront({ path, type, size }: FileEntry): boolean {
  return (
    type === 'file' &&
    size <= largestFront &&
    (isIndex(path) || path.endsWith('.php') || path === '.htaccess')
  );
}

/** Copies front files into the keepsake: they stay where they are until the new ones take their place. */
async function keepFronts({ end, keepsake }: StagingPaths, fronts: readonly FileEntry[]): Promise<void> {
  const copy = async (entry: FileEntry) => {
    const to = asBytes(`${keepsake}/${entry.path}`);
    // What an interrupted run has kept is what was there; a page may be there now.
    if (!(await end.entry(to))) await copyFile(end, entry, to);
  };
  await pMap(fronts, copy, { concurrency: end.atOnce });
}

/** Puts a maintenance page in place of scripts, and waits until everybody sees it. */
async function showPages(
  run: StepRun,
  { end, outgoing }: StagingPaths,
  fronts: readonly FileEntry[],
): Promise<void> {
  const scripts = fronts.map(({ path }) => path).filter(path => path.endsWith('.php'));
  const sums = await end.checksums(scripts, run.signal);
  const shown = sha256Of(maintenancePage);
  const old = scripts.filter(path => sums.get(path) !== shown);
  const show = async (path: ByteString) => {
    const waiting = asBytes(`${outgoing}/${path}`);
    await end.write(waiting, Buffer.from(maintenancePage, 'latin1'));
    await end.replace(waiting, path);
  };
  await pMap(old, show, { concurrency: end.atOnce });
  if (old.length > 0) await setTimeout(untilSeen.entries, undefined, { signal: run.signal });
}

/** The finding for a web root that stays where it is. */
export function rootNotRenamable(place: string): Finding {
  return finding({
    level: 'note',
    code: 'root-not-renamable',
    place,
    what: 'The web root itself cannot be renamed, so its files are put in place one by one, under a maintenance page',
    remedy:
      'Nothing needs to be done; a file that is asked for by its own address may be missing for a moment',
  });
}
