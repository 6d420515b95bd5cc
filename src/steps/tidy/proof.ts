import { bytesOfText, textOf } from '../../core/bytes.js';
import { ownTablesThere } from '../deliver/database/restore.js';
import { isOwn, ownFolder } from '../deliver/files/staging.js';
import { newDatabaseOf } from '../move/databases.js';
import type { Ledger } from '../move/ledger.js';
import { askableSiteOf } from '../move/sites.js';
import type { StepRun } from '../move/step.js';
import { closeHatches, hatchRemains } from './hatches.js';

/** A place that was looked at, and what of the move was found there. */
export interface Proven {
  readonly what: string;
  readonly found: readonly string[];
}

/** Looks at the new end for anything of the move: files, tables, and what visitors must not be able to fetch. */
export async function proveGone(run: StepRun, ledger: Ledger): Promise<Proven[]> {
  const proven = [...(await filesOf(run)), ...(await tablesOf(run, ledger)), ...(await pagesOf(run, ledger))];
  await closeHatches(run.move);
  const hatches = await hatchRemains(run.move, run.signal);
  return hatches ? [...proven, { what: 'hatches, over FTP and HTTP', found: hatches }] : proven;
}

async function filesOf({ move, signal }: StepRun): Promise<Proven[]> {
  const { newFiles, sheet } = move;
  if (!newFiles) return [];
  const proven: Proven[] = [];
  const root = newFiles.open();
  if (await root.isThere()) {
    const found: string[] = [];
    for await (const { path } of root.list(one => one.path.includes('/') || one.type === 'folder', signal))
      if (isOwn(path) || /^able-porter-probe-/.test(path)) found.push(newFiles.below(textOf(path)).text);
    proven.push({ what: 'files in the web root', found });
  }
  if (newFiles.isRoot) return proven;
  const above = newFiles.above.open();
  const own = ownFolder(sheet.name);
  const there = (await above.isThere())
    ? await above.entry(bytesOfText(own)).catch(() => 'not seen')
    : undefined;
  if (there !== 'not seen')
    proven.push({
      what: 'files beside the web root',
      found: there ? [newFiles.above.below(own).text] : [],
    });
  return proven;
}

async function tablesOf({ move }: StepRun, ledger: Ledger): Promise<Proven[]> {
  const database = newDatabaseOf(move);
  if (!database || !move.newLive || ledger.loaded.size === 0) return [];
  const found = await database.use(connection => ownTablesThere(move, connection));
  return [{ what: 'tables of our own', found }];
}

/** Asks the web server for what it must not give. */
async function pagesOf({ move, signal }: StepRun, { records, stagedInside }: Ledger): Promise<Proven[]> {
  const { newFiles, sheet } = move;
  const site = askableSiteOf(move, 'new');
  if (!site || !newFiles) return [];
  const names = records.flatMap(({ deed }) =>
    deed?.kind === 'probe put' ? [deed.place.split('/').at(-1)!] : [],
  );
  if (stagedInside.has(newFiles.text)) names.push(`.able-porter.${sheet.name}/`);
  if (names.length === 0) return [];
  const found: string[] = [];
  for (const name of new Set(names)) {
    const page = await site.get(`/${name}`, signal).catch(() => undefined);
    if (page && page.status < 400 && new URL(page.address).pathname.endsWith(`/${name}`))
      found.push(page.address);
  }
  return [{ what: 'files of ours that visitors could fetch', found }];
}
