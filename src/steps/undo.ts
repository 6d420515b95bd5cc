import { UsageError } from '../core/errors.js';
import { type Finding, finding } from '../core/findings/findings.js';
import type { KeptListing } from '../core/journal.js';
import { familyNamed } from '../core/site/families/families.js';
import { changesText, liveFinding } from './deliver/changes.js';
import { endRows } from './deliver/database/put-rows.js';
import {
  type DatabaseRemains,
  databaseNamed,
  databaseRemains,
  exchangeData,
  holdsAnything,
  keptDataText,
  restoreDatabase,
  writtenIntoDelivered,
} from './deliver/database/restore.js';
import type { WrittenSince } from './deliver/database/written-since.js';
import { type EditedFile, editedAbove, writtenFiles } from './deliver/files/edited-since.js';
import { listKept, requireRestored, requireWhole } from './deliver/files/kept-files.js';
import { clearFolders } from './deliver/files/own-folder.js';
import {
  exchangeFiles,
  putBack,
  type Remains,
  remainsOf,
  requireKeepsakes,
} from './deliver/files/restore.js';
import { listStandingTree } from './deliver/files/stage-tree.js';
import { stagingOfAll } from './deliver/files/staging.js';
import { settleExchanges } from './deliver/files/swap.js';
import { newAdministratorOf, newDatabasePlace } from './move/databases.js';
import { type Keepsake, type Ledger, ledgerOf } from './move/ledger.js';
import { refuseClosed } from './move/life.js';
import type { Move } from './move/open.js';
import { doStep, type FindingLog, noteDeed, type StepOutcome, type StepRun } from './move/step.js';

export interface UndoResult {
  readonly removed: readonly string[];
  readonly restored: readonly string[];
  /** What was taken away and is kept, since somebody had changed it. */
  readonly kept: readonly string[];
  /** What of the move remains at the new end and must be removed by hand. */
  readonly remains: readonly string[];
}

/** What is kept, as it is listed. */
export interface ListedKeepsake {
  readonly number: number;
  /** ISO 8601, UTC. */
  readonly at: string;
  /** What it is, in words. */
  readonly what: string;
  /** Whether "undo --keepsake" can restore it on the site that is there now; undefined for what "undo" restores. */
  readonly fits: boolean | undefined;
  readonly places: readonly string[];
}

interface UndoPlan {
  readonly files: readonly Remains[];
  readonly database: DatabaseRemains | undefined;
  readonly places: readonly string[];
  /** What the new site has written since the last delivery. */
  readonly written: { readonly files: readonly EditedFile[]; readonly database: WrittenSince | undefined };
}

/** What `undo` would do now. */
export async function planUndo(run: StepRun): Promise<UndoPlan> {
  const { move } = run;
  await settleExchanges(run);
  const ledger = await ledgerOf(move);
  const remains = await remainsOf(move, ledger);
  requireKeepsakes(remains, ledger);
  requireNamed(remains, ledger);
  // Where an interrupted run has begun to bring it back, it is not whole any more.
  for (const { staging, delivered, keepsake } of remains)
    for (const one of ledger.keepsakes.values())
      if (one.by === 'first delivery' && delivered && keepsake !== undefined)
        await requireWhole(run, staging, one);
  const files = remains.filter(one => one.delivered || one.keepsake !== undefined || one.scraps.length > 0);
  const database = await databaseRemains(move);
  const places = [...files.map(({ place }) => place), ...(database ? [database.place] : [])];
  const written = {
    files: await filesWritten(run, files),
    database: database && (await writtenIntoDelivered(run, database)),
  };
  return { files, database, places, written };
}

async function filesWritten(run: StepRun, remains: readonly Remains[]): Promise<EditedFile[]> {
  const { move } = run;
  const root = remains.find(({ place, delivered }) => delivered && place === move.newFiles?.text);
  const above = await editedAbove(run);
  if (!root || !(await listStandingTree(run, root.staging))) return above;
  const manifest = await move.crate.manifest().catch(() => undefined);
  const family = familyNamed(manifest?.from.family ?? 'plain');
  return [...above, ...(await writtenFiles(run, root.staging, family))];
}

/** What was written since the last delivery, in words; undefined for nothing. */
export function writtenText({ written }: UndoPlan): string | undefined {
  return changesText(written);
}

/** Puts the new end back as it was before the first delivery. What somebody has changed there since is kept. */
export async function undo(run: StepRun): Promise<StepOutcome<UndoResult>> {
  const { move } = run;
  await refuseClosed(move, 'Undoing the delivery');
  const plan = await planUndo(run);
  const { files, database } = plan;
  const inputs = {
    files: files.map(({ place, keepsake }) => ({ place, keepsake })),
    database: database?.place,
  };
  return doStep({ ...run, again: true }, 'undo', inputs, async findings => {
    findings.add(...(await writtenFindings(move, plan)));
    const nothing = { removed: [], restored: [], kept: [], remains: [] };
    if (findings.stops) return { result: nothing, brief: {} };
    await noteDeed(run, 'undo', { kind: 'changing' });
    const number = (await ledgerOf(move)).numberOfUndo;
    // Files and rows are one site: where anything was written, both are kept, so that both can be restored.
    const keeps = writtenText(plan) === undefined ? undefined : number;
    // The database first: it is one statement, and what asks it goes at once after it.
    if (database) await restoreDatabase(run, database, keeps);
    const listings = firstListings(await ledgerOf(move));
    for (const one of files) {
      await putBack(run, one, isWholeOfSite(move, one.place) ? keeps : undefined);
      if (one.keepsake !== undefined) await requireRestored(run, one.staging, listings.get(one.place));
    }
    await clearFolders(move);
    await listKept(run, 'undo');
    const result = {
      removed: [
        ...files.filter(one => one.delivered).map(({ place }) => place),
        ...(database ? [database.place] : []),
      ],
      restored: [
        ...files.filter(({ keepsake }) => keepsake !== undefined).map(({ place }) => place),
        ...(database && holdsAnything(database.first) ? [database.place] : []),
      ],
      kept: (await keepsakesOf(move)).filter(one => one.number === number).flatMap(({ places }) => places),
      remains: await removeProvisioned(run, findings),
    };
    return { result, brief: { ...result } };
  });
}

/** What was listed of what was there before the first delivery, by place. */
function firstListings({ keepsakes }: Ledger): ReadonlyMap<string, KeptListing> {
  return new Map(
    [...keepsakes.values()].flatMap(one => (one.by === 'first delivery' ? [...one.listed] : [])),
  );
}

/** @throws UsageError where something was delivered to a place that the sheet does not name now */
function requireNamed(remains: readonly Remains[], { delivered }: Ledger): void {
  const named = new Set(remains.map(({ place }) => place));
  for (const place of delivered) {
    if (named.has(place)) continue;
    throw new UsageError({
      doing: 'Undoing the delivery',
      cause: `it was delivered to ${place}, which the sheet does not name now`,
      remedy: 'Write that place into the sheet again, or put a move folder that was moved back, then undo',
    });
  }
}

/** Whether a place is the site's folder or beside it: what is inside is kept with the folder, and a finished dump is no site. */
function isWholeOfSite({ newFiles, newDump }: Move, place: string): boolean {
  return place !== newDump?.text && !newFiles?.pathTo(place);
}

async function writtenFindings(move: Move, plan: UndoPlan): Promise<Finding[]> {
  const text = writtenText(plan);
  if (text === undefined) return [];
  const place = move.sheet.new.address;
  const what = `${text} written at the new site since it was delivered`;
  if ((await ledgerOf(move)).life === 'live') {
    return [
      liveFinding(
        move,
        what,
        'If visitors do not use it after all, say so with "able-porter cutover back --by-hand", then undo',
      ),
    ];
  }
  const remedy = 'List what is kept with "able-porter undo --list"';
  return [finding({ level: 'warn', code: 'written-since', place, what: `${what}; it is kept`, remedy })];
}

/** Removes a database and a user that the move has made; what cannot be removed is listed. */
async function removeProvisioned(run: StepRun, findings: FindingLog): Promise<string[]> {
  const { move } = run;
  const remains: string[] = [];
  const { provisioned, keepsakes, loaded } = await ledgerOf(move);
  const place = newDatabasePlace(move);
  for (const [database, made] of provisioned) {
    const administrator = newAdministratorOf(move);
    const isKept = [...keepsakes.values()].some(({ data }) => data.some(one => one.database === database));
    const left = administrator && place && !isKept ? await administrator.unprovision(place, made) : made;
    remains.push(...left.map(one => `${one} at ${database}`));
    if (left.length === 0) await noteDeed(run, 'undo', { kind: 'unprovisioned', database });
  }
  for (const database of loaded.keys())
    remains.push(`the tables of this move in ${database}, which the sheet does not name now`);
  if (move.newDump && move.sheet.new.database?.server !== undefined)
    remains.push('the tables that were loaded by hand from the finished dump, if any were');
  else if (move.newDump)
    remains.push('the tables of the new database, if the finished dump was loaded by hand');
  if (remains.length > 0)
    findings.add(
      finding({
        level: 'note',
        code: 'remains-by-hand',
        place: move.sheet.new.address,
        what: `Not removed: ${remains.join('; ')}`,
        remedy: 'Remove it by hand in the host’s panel if nothing needs it',
      }),
    );
  return remains;
}

/** What is kept at the new end and in the move folder, the oldest first. */
export async function keepsakesOf(move: Move): Promise<ListedKeepsake[]> {
  const { keepsakes, standing } = await ledgerOf(move);
  const whys = {
    'first delivery': 'what was there before the first delivery',
    delivery: 'what was there before a later delivery replaced it',
    undo: 'what was taken away again and somebody had changed',
  };
  return [...keepsakes.values()]
    .map(({ number, at, by, files, data }) => ({
      number,
      at,
      what: whys[by],
      fits: by === 'first delivery' ? undefined : standing.fits(number) === 'fits' && !spareIn(data),
      places: [
        ...files.map(one =>
          one.kind === 'kept' ? one.keepsake : `files that were replaced, in ${one.keepsake}`,
        ),
        ...data.filter(holdsAnything).map(one => keptDataText(move, one)),
      ],
    }))
    .filter(({ places }) => places.length > 0);
}

/** Puts a keepsake in place of what is there, which becomes a keepsake of its own. */
export async function undoKeepsake(run: StepRun, number: number): Promise<StepOutcome<UndoResult>> {
  const { move } = run;
  await refuseClosed(move, `Restoring keepsake ${number}`);
  await settleExchanges(run);
  const ledger = await ledgerOf(move);
  const keepsake = requiredKeepsake(ledger.keepsakes.get(number), number);
  refuseFirst(keepsake, ledger);
  refuseSpare(keepsake);
  refuseUnfit(move, keepsake, ledger);
  return doStep({ ...run, again: true }, 'undo', { keepsake: number }, async findings => {
    findings.add(
      ...(await writtenFindings(move, await planUndo(run))).filter(({ level }) => level === 'stop'),
    );
    if (findings.stops) return { result: { removed: [], restored: [], kept: [], remains: [] }, brief: {} };
    for (const { place } of keepsake.files) {
      const staging = stagingOfAll(move, ledger).find(one => one.place.text === place);
      if (staging && !ledger.standing.isRestoring(number)) await requireWhole(run, staging, keepsake);
    }
    await noteDeed(run, 'undo', { kind: 'changing', keepsake: number });
    const keeps = (await ledgerOf(move)).numberOfUndo;
    const restored: string[] = [];
    for (const kept of keepsake.data.filter(holdsAnything)) {
      await exchangeData(run, kept, keeps);
      restored.push(kept.database);
    }
    await noteDeed(run, 'undo', { kind: 'keepsake gone', number, what: 'database' });
    for (const { database } of keepsake.data.filter(({ kind }) => kind === 'rows kept'))
      await endRows(databaseNamed(move, database));
    for (const kept of keepsake.files) {
      const staging = stagingOfAll(move, ledger).find(({ place }) => place.text === kept.place);
      if (!staging) continue;
      await exchangeFiles(run, staging, kept, keeps);
      restored.push(kept.place);
    }
    await noteDeed(run, 'undo', { kind: 'keepsake gone', number, what: 'files' });
    await listKept(run, 'undo');
    const kept = (await keepsakesOf(move))
      .filter(one => one.number === keeps)
      .flatMap(({ places }) => places);
    return {
      result: { removed: [], restored, kept, remains: [] },
      brief: { keepsake: number, restored, kept },
    };
  });
}

/**
 * @throws UsageError for what was there before the first delivery: exchanged with the delivered site, it would be taken for
 *   one by the next delivery. A restoration that was interrupted continues.
 */
function refuseFirst({ number, by }: Keepsake, { standing }: Ledger): void {
  if (by !== 'first delivery' || standing.isRestoring(number)) return;
  throw new UsageError({
    doing: `Restoring keepsake ${number}`,
    cause: 'it is what was there before the first delivery',
    remedy: 'Restore it with "able-porter undo"; what the new site has written since is kept then too',
  });
}

/** Rows that nobody but deliveries of this move had written. */
function spareIn(
  data: Keepsake['data'],
): Extract<Keepsake['data'][number], { kind: 'rows kept' }> | undefined {
  for (const one of data) if (one.kind === 'rows kept' && one.isSpare) return one;
  return undefined;
}

/** @throws UsageError where only rows are kept that an earlier delivery had put there: without its files they are half a site */
function refuseSpare({ number, data }: Keepsake): void {
  const spare = spareIn(data);
  if (!spare) return;
  throw new UsageError({
    doing: `Restoring keepsake ${number}`,
    cause: 'it holds only rows that an earlier delivery of this move had put there',
    remedy: `Undo all of it with "able-porter undo", or load single rows from ${spare.file} by hand`,
  });
}

/** @throws UsageError where files and rows of different times would be there side by side afterwards */
function refuseUnfit(move: Move, { number, files, data }: Keepsake, { standing }: Ledger): void {
  const fit = standing.fits(number);
  if (fit === 'fits') return;
  const places = [
    ...files.map(({ keepsake }) => keepsake),
    ...data.filter(holdsAnything).map(one => keptDataText(move, one)),
  ];
  const byHand = `take what you need from it by hand: ${places.join(', ')}`;
  throw new UsageError({
    doing: `Restoring keepsake ${number}`,
    cause:
      fit === 'never finished'
        ? 'the step that made it was interrupted, so it may hold only a part of a site'
        : 'it holds only what a later delivery replaced, and the site has been replaced again since',
    remedy:
      fit === 'never finished'
        ? `Finish that step by running it again, or ${byHand}`
        : `Restore the keepsakes that came after it first, the last one before the others; or ${byHand}`,
  });
}

function requiredKeepsake(keepsake: Keepsake | undefined, number: number): Keepsake {
  if (keepsake) return keepsake;
  throw new UsageError({
    doing: `Restoring keepsake ${number}`,
    cause: 'there is none of that number',
    remedy: 'List what is kept with "able-porter undo --list"',
  });
}
