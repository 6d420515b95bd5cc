import { textOf } from '../../core/bytes.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import { agreeing, counted } from '../../core/text/numbers.js';
import { type FolderTest, testFolder } from '../../ends/files/folder-test.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { fetchableTrial } from '../deliver/files/own-folder.js';
import { topLevel } from '../deliver/files/staging.js';
import { rootNotRenamable } from '../deliver/files/swap-entries.js';
import { landingText } from '../move/landing.js';
import type { Ledger } from '../move/ledger.js';
import type { StepRun } from '../move/step.js';

/** What was seen of the new place for files. */
export interface NewPlace {
  readonly path: string;
  readonly trial: FolderTest;
  readonly freeBytes: number | undefined;
  readonly freeFiles: number | undefined;
  readonly runsCommands: boolean;
  /** How many files and folders are in the new folder already. */
  readonly standing: number;
  /** Whether a delivery of this move put them there. */
  readonly delivered: boolean;
}

/** Looks where the files would land, and tries there what a delivery will do. */
export async function surveyNewPlace(
  run: StepRun,
  family: Promise<Family | undefined> | undefined,
  ledger: Ledger,
): Promise<{ place: NewPlace | undefined; findings: Finding[] }> {
  const { newFiles } = run.move;
  const findings: Finding[] = [];
  if (!newFiles) return { place: undefined, findings };
  const parent = await existingFolder(newFiles.above);
  const files = newFiles.open();
  const isThere = await files.isThere();
  // A hatch works in the web root alone.
  const isInside = newFiles.hatch !== undefined && isThere;
  const above = isInside ? files : parent.open();
  const asking = above.room();
  // It is waited for below, whatever comes between.
  asking.catch(() => {});
  let trial = await testFolder(above, run.move.sheet.name, run.signal);
  let waitsIn = isInside ? newFiles : parent;
  if (isInside && trial.writable) findings.push(rootNotRenamable(newFiles.text));
  if (!trial.writable && isThere && !isInside) {
    // Many hosts let an account write in its web root alone.
    trial = await testFolder(files, run.move.sheet.name, run.signal);
    waitsIn = newFiles;
    if (trial.writable) findings.push(rootNotRenamable(newFiles.text));
  }
  if (trial.writable) findings.push(...(await fetchableTrial(run, waitsIn)));
  if (parent.text !== newFiles.above.text) findings.push(await parentMissing(newFiles, parent));
  const room = await asking;
  const names = isThere ? (await topLevel(files)).map(({ path }) => textOf(path)) : [];
  const delivered = ledger.delivered.has(newFiles.text);
  if (names.length > 0 && !delivered) findings.push(notEmptyFinding(newFiles.text, names, await family));
  const place: NewPlace = {
    path: newFiles.text,
    trial,
    freeBytes: room?.bytes,
    freeFiles: room?.files,
    runsCommands: await above.runsCommands(),
    standing: names.length,
    delivered,
  };
  return { place, findings };
}

/** The folders around the new one would be made too: likely where the path counts from another root than was thought. */
async function parentMissing(place: FilesPlace, there: FilesPlace): Promise<Finding> {
  const landing = await landingText(place);
  return finding({
    level: 'warn',
    code: 'new-parent-missing',
    place: place.text,
    what: `Of this path only ${there} is there; the delivery would create the rest${landing && ` (${landing})`}`,
    remedy: 'Check the path: the web root of a host is there before a site is',
  });
}

function notEmptyFinding(place: string, names: readonly string[], family: Family | undefined): Finding {
  const configuration = family?.configurations.find(path => names.includes(path));
  const some = names.slice(0, 3).join(', ') + (names.length > 3 ? ', …' : '');
  const others = counted(names.length - 1, 'other file or folder', 'other files and folders');
  const all = counted(names.length, 'file or folder', 'files and folders');
  return finding({
    level: 'warn',
    code: configuration ? 'new-site-there' : 'new-folder-not-empty',
    place,
    what: configuration
      ? `The new folder already holds another site's configuration (${configuration}) and ${others}`
      : `${all} ${agreeing(names.length, 'is', 'are')} in the new folder already: ${some}`,
    remedy: 'Check that this is the right folder; deliver keeps what is there as a keepsake until tidy',
  });
}

/** The folder itself, or the nearest one above it that is there. */
export async function existingFolder(place: FilesPlace): Promise<FilesPlace> {
  for (let at = place; ; at = at.above) if (at.isRoot || (await at.open().isThere())) return at;
}
