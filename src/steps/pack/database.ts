import { mkdir, readFile, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { isDeepStrictEqual } from 'node:util';
import { shownDatabase } from '../../core/database/place.js';
import { EndError, UsageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings.js';
import { globPattern } from '../../core/rewrite/terms/globs.js';
import { GrowingDump } from '../../ends/database/dump/growing-dump.js';
import { bytes, type SeenTable } from '../../ends/database/server/catalog.js';
import { asDatabaseTrouble } from '../../ends/database/server/session.js';
import { Snapshot } from '../../ends/database/server/snapshot.js';
import { takenDump } from '../../ends/move-folder/crate.js';
import type { CratePart } from '../../ends/move-folder/crate-part.js';
import { writeWhole } from '../../ends/move-folder/move-folder.js';
import { telling } from '../../ends/trouble.js';
import type { OldDatabase } from '../move/databases.js';
import type { StepRun } from '../move/step.js';

/** What was taken of a live database. */
export interface TakenDatabase {
  readonly part: CratePart;
  readonly tables: readonly { readonly table: string; readonly rows: number }[];
  readonly charset: string;
  readonly findings: readonly Finding[];
}

/** A table that the dump holds, whole. */
interface TakenTable {
  readonly table: string;
  readonly rows: number;
  /** The dump until the end of its piece. */
  readonly dump: CratePart;
  /** When its snapshot was opened, ISO 8601. */
  readonly of: string;
}

/** How far the taking of a database has come. */
interface TakenSoFar {
  readonly database: string;
  readonly charset: string;
  /** Tables of which only the structure is taken, as the sheet says it. */
  readonly without: readonly string[];
  /** In the order of the dump. */
  readonly tables: TakenTable[];
}

/** So old may a table be that a broken-off run left, in milliseconds; the site goes on writing meanwhile. */
const oldest = 60 * 60 * 1000;
/** Names of the dump so far and of how far it has come, in a folder of the crate. */
const dumpSoFar = 'database.sql.gz.partial';
const howFar = 'so-far.json';

/**
 * Takes the old database from its server into the crate, table by table. A run that is broken off goes on at the table
 * where it was.
 */
export async function takeLiveDatabase(run: StepRun, { way, charset }: OldDatabase): Promise<TakenDatabase> {
  const { crate, sheet } = run.move;
  const wish = sheet.take.database === false ? undefined : sheet.take.database;
  const without = (wish?.tables.without ?? []).map(globPattern);
  const folder = crate.at('taking');
  const doing = `Taking the database ${shownDatabase(way.place)}`;
  const snapshot = await Snapshot.open(way, charset, () => true);
  try {
    await telling(`Making the crate ${crate.folder}`, () => mkdir(folder, { recursive: true }));
    const at = new Date();
    const findings = await unsteadyFindings(
      snapshot,
      wish?.['without-transactions'] ?? 'lock',
      way.place.name,
    );
    refuseCrashed(snapshot.own, doing);
    const all = snapshot.own.reduce((sum, { rows }) => sum + rows, 0);
    const wanted = {
      database: shownDatabase(way.place),
      charset: snapshot.charset,
      without: wish?.tables.without ?? [],
    };
    const left = run.again ? [] : await leftOver(folder, wanted, snapshot.own);
    const dump = await GrowingDump.open(join(folder, dumpSoFar), left.at(-1)?.dump);
    const tables = dump.whole.bytes > 0 ? left : [];
    if (tables.length === 0) await dump.add(async sink => sink.take(snapshot.head(at)));
    let before = tables.reduce((sum, { rows }) => sum + rows, 0);
    let noted: Promise<void> = Promise.resolve();
    for (const table of snapshot.own.slice(tables.length)) {
      run.signal.throwIfAborted();
      let rows = 0;
      const progress = (done: number) =>
        run.events({
          type: 'progress',
          what: table.name,
          done: before + done,
          of: Math.max(all, before + done),
          unit: 'rows',
        });
      const structureOnly = without.some(one => one.test(table.name));
      await dump.add(async sink => {
        const most = structureOnly ? 0 : undefined;
        rows = await snapshot.writeTable(table, sink, run.signal, { progress, most });
      });
      await noted;
      tables.push({ table: table.name, rows, dump: dump.whole, of: at.toISOString() });
      noted = note(folder, dump, { ...wanted, tables });
      before += rows;
      progress(0);
    }
    await noted;
    await dump.add(async sink => {
      await snapshot.writeRest(sink, { routines: wish?.routines === true, events: wish?.events === true });
      sink.take(snapshot.tail());
    });
    findings.push(...twoMoments(tables, way.place.name));
    const part = await dump.finish(crate.at(takenDump));
    await rm(folder, { recursive: true });
    const counted = tables.map(({ table, rows }) => ({ table: bytes(table), rows }));
    return { part, tables: counted, charset: snapshot.charset, findings };
  } catch (error) {
    run.signal.throwIfAborted();
    throw asDatabaseTrouble(error, doing);
  } finally {
    await snapshot.close().catch(() => {});
  }
}

/** Notes how far it has come, once that is on the disk. The next table is read meanwhile. */
function note(folder: string, dump: GrowingDump, soFar: TakenSoFar): Promise<void> {
  const text = JSON.stringify(soFar);
  const noting = dump.sync().then(() => writeWhole(join(folder, howFar), text));
  // Whoever waits for it hears of its error.
  noting.catch(() => {});
  return noting;
}

/** What a broken-off run of a short while ago noted as taken, as far as it is the same tables in the same order. */
async function leftOver(
  folder: string,
  wanted: Omit<TakenSoFar, 'tables'>,
  own: readonly SeenTable[],
): Promise<TakenTable[]> {
  const left = await readSoFar(join(folder, howFar));
  if (!left || !isDeepStrictEqual({ ...left, tables: [] }, { ...wanted, tables: [] })) return [];
  const isKept = ({ table, of }: TakenTable, i: number) =>
    table === own[i]?.name && Date.now() - Date.parse(of) < oldest;
  const wrong = left.tables.findIndex((table, i) => !isKept(table, i));
  return wrong < 0 ? left.tables : left.tables.slice(0, wrong);
}

async function readSoFar(file: string): Promise<TakenSoFar | undefined> {
  try {
    return JSON.parse(await readFile(file, 'utf8')) as TakenSoFar;
  } catch {
    return undefined;
  }
}

/** What is done about tables that no transaction holds still, and what is told of it. */
async function unsteadyFindings(
  snapshot: Snapshot,
  wish: 'lock' | 'read' | 'refuse',
  database: string,
): Promise<Finding[]> {
  const tables = snapshot.unsteady;
  if (tables.length === 0) return [];
  const some = tables.slice(0, 4).map(({ name, engine }) => `${name} (${engine})`);
  const names = some.join(', ') + (tables.length > 4 ? ', …' : '');
  if (wish === 'refuse') {
    throw new UsageError({
      doing: `Taking the database ${database}`,
      cause: `tables are kept without transactions, which the sheet refuses: ${names}`,
      remedy: 'Allow take.database.without-transactions: lock or read, or convert them at the old site',
    });
  }
  const locked = wish === 'lock' && (await snapshot.lock(tables));
  return [
    {
      level: locked ? 'note' : 'warn',
      code: 'tables-without-transactions',
      place: database,
      what: locked
        ? `Nobody could write to these while they were read, for they are kept without transactions: ${names}`
        : `These are kept without transactions and could be written to while they were read: ${names}`,
      remedy: locked
        ? 'Nothing needs to be done'
        : 'Put the old site into maintenance mode and pack again with --again before the cutover',
    },
  ];
}

/** A broken-off taking that was gone on with has tables of two moments. */
function twoMoments(tables: readonly TakenTable[], database: string): Finding[] {
  const moments = [...new Set(tables.map(({ of }) => of))].sort();
  if (moments.length < 2) return [];
  const shown = (moment: string) => moment.slice(11, 19);
  return [
    {
      level: 'note',
      code: 'database-of-two-moments',
      place: database,
      what: `The taking was broken off and gone on with: some tables are as they were at ${shown(moments[0]!)}, others as at ${shown(moments.at(-1)!)} UTC`,
      remedy: 'If somebody wrote to the site meanwhile, take all anew with "able-porter pack --again"',
    },
  ];
}

function refuseCrashed(tables: readonly SeenTable[], doing: string): void {
  const crashed = tables.find(({ trouble }) => trouble !== undefined);
  if (!crashed) return;
  throw new EndError({
    doing,
    cause: `the table ${crashed.name} cannot be opened: ${crashed.trouble}`,
    remedy: `Repair it at the old host (REPAIR TABLE ${crashed.name}), or drop it if nothing needs it`,
  });
}
