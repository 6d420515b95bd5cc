import { access, readdir, rm } from 'node:fs/promises';
import { archiveName } from '../core/files/archive-names.js';
import { clearBesideDatabase, type DatabaseRemains, databaseRemains } from './deliver/database/restore.js';
import { clearBeside, clearFolders, type Remains, remainsOf } from './deliver/files/restore.js';
import { type Ledger, ledgerOf } from './move/ledger.js';
import type { Move } from './move/open.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { clearProbes } from './survey/probe.js';

export interface TidyResult {
  readonly removed: readonly string[];
  /** What a person does after a move, in order. */
  readonly remember: readonly string[];
}

/** What `tidy` would remove now: keepsakes and half-done things at the new end, and the crate. */
export async function planTidy(move: Move): Promise<string[]> {
  return (await planOf(move)).paths;
}

async function planOf(move: Move): Promise<{
  remains: Remains[];
  database: DatabaseRemains | undefined;
  crate: boolean;
  archives: string[];
  paths: string[];
}> {
  const remains = await remainsOf(move, await ledgerOf(move));
  const paths = remains.flatMap(({ keepsake, scraps }) => [
    ...(keepsake === undefined ? [] : [keepsake]),
    ...scraps,
  ]);
  const database = await databaseRemains(move);
  if (database?.keepsake !== undefined) paths.push(database.keepsake);
  const crate = await access(move.crate.folder).then(
    () => true,
    () => false,
  );
  if (crate) paths.push(move.crate.folder);
  const names = await readdir(move.folder.folder);
  const archives = names
    .filter(name => name.startsWith(archiveName(move.sheet.name)))
    .map(name => move.folder.at(name));
  paths.push(...archives);
  return { remains, database, crate, archives, paths };
}

/** Removes what the move left behind. After it there is no way back but the old site itself. */
export async function tidy(run: StepRun): Promise<StepOutcome<TidyResult>> {
  const { move } = run;
  const { remains, database, crate, archives, paths } = await planOf(move);
  const ledger = await ledgerOf(move);
  return doStep({ ...run, again: true }, 'tidy', { paths }, async () => {
    for (const one of remains) await clearBeside(one);
    await clearFolders(move);
    if (database) await clearBesideDatabase(move, database);
    await clearProbes(move);
    if (crate) await rm(move.crate.folder, { recursive: true });
    for (const archive of archives) await rm(archive);
    const remember = leftToDo(move, ledger);
    return { result: { removed: paths, remember }, brief: { removed: paths } };
  });
}

/** What a person does by hand after a move, in order. */
export function leftToDo({ newLive, sheet }: Move, { heldBack }: Ledger): string[] {
  return [
    ...(newLive ? [] : [`Open the permalink settings of ${sheet.new.address} once and save them`]),
    'Empty the caches of the site and of any service in front of it',
    ...[...heldBack].map(name => `Switch on again, and look at the site: ${name}`),
    'Look for installers, archives and dumps that somebody left in the web root',
    `Keep the redirects at ${sheet.old.address} for at least a year`,
  ];
}
