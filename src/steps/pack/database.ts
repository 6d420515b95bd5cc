import { mkdir, readFile, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { isDeepStrictEqual } from 'node:util';
import { bytesOfText } from '../../core/bytes.js';
import { EndError, UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { SiteInDatabase } from '../../core/site/survey/site-tables.js';
import { counted } from '../../core/text/numbers.js';
import type { DatabaseEnd, DatabaseSnapshot, SeenTable } from '../../ends/database/database-end.js';
import { GrowingDump } from '../../ends/database/dump/growing-dump.js';
import { takenDump } from '../../ends/move-folder/crate.js';
import type { CratePart } from '../../ends/move-folder/crate-part.js';
import { whileDoing } from '../../ends/system-errors.js';
import { writeWhole } from '../../ends/whole-file.js';
import type { OldDatabase } from '../move/databases.js';
import type { Move } from '../move/open.js';
import type { StepRun } from '../move/step.js';
import { othersFinding, siteTablesFindings, tablesTaken } from '../move/tables.js';

/** What was taken of a live database. */
export interface TakenDatabase {
  /** Undefined where a finding says that nothing may be taken. */
  readonly part: CratePart | undefined;
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
  /** Tables of which only the structure is taken. */
  readonly rowless: readonly string[];
  /** In the order of the dump. */
  readonly tables: TakenTable[];
}

/** So old may a table be that an interrupted run left, in milliseconds; the site continues writing meanwhile. */
const oldest = 60 * 60 * 1000;
/** Names of the dump so far and of how far it has come, in a folder of the crate. */
const dumpSoFar = 'database.sql.gz.partial';
const howFar = 'so-far.json';

/**
 * Takes the old database from its server into the crate, table by table. An interrupted run is resumed at the table
 * where it was.
 */
export async function takeLiveDatabase(
  run: StepRun,
  { database, charset }: OldDatabase,
  site: SiteInDatabase | undefined,
): Promise<TakenDatabase> {
  const { move } = run;
  const { crate, sheet } = move;
  const wish = sheet.take.database === false ? undefined : sheet.take.database;
  const folder = crate.at('taking');
  const doing = `Taking the database ${database.text}`;
  const chosen = new ChosenTables(move, site, database.text);
  const snapshot = await database.snapshot({ charset, choose: all => chosen.among(all) });
  try {
    await whileDoing(`Making the crate ${crate.folder}`, () =>
      mkdir(folder, { recursive: true, mode: 0o700 }),
    );
    if (chosen.stops.length > 0)
      return { part: undefined, tables: [], charset: snapshot.charset, findings: chosen.stops };
    const handling = wish?.['without-transactions'] ?? 'lock';
    const findings = await unsteadyFindings(snapshot, handling, database.name);
    refuseCrashed(snapshot.own, doing);
    findings.push(...chosen.findings());
    const { dump, tables } = await takeTables(run, { folder, database, snapshot, rowless: chosen.rowless });
    await dump.add(async sink => {
      await snapshot.writePrograms(sink, {
        routines: wish?.routines === true,
        events: wish?.events === true,
      });
      sink.take(snapshot.tail());
    });
    findings.push(...twoSnapshots(tables, database.name), ...severalMoments(snapshot, database.name));
    findings.push(...programsFinding(snapshot, database.text));
    const part = await dump.finish(crate.at(takenDump));
    await rm(folder, { recursive: true });
    const taken = tables.map(({ table, rows }) => ({ table: bytesOfText(table), rows }));
    return { part, tables: taken, charset: snapshot.charset, findings };
  } catch (error) {
    run.signal.throwIfAborted();
    throw database.toPorterError(error, doing);
  } finally {
    await snapshot.close().catch(() => {});
  }
}

/** So many views and programs are named. */
const mostPrograms = 5;

/** The tables of a database that are taken. */
class ChosenTables {
  /** Why none may be. */
  stops: Finding[] = [];
  /** Tables of which only the structure is taken. */
  rowless: string[] = [];
  private all: readonly string[] = [];
  private others: readonly string[] = [];
  private readonly move: Move;
  private readonly site: SiteInDatabase | undefined;
  private readonly place: string;

  constructor(move: Move, site: SiteInDatabase | undefined, place: string) {
    this.move = move;
    this.site = site;
    this.place = place;
  }

  among(tables: readonly SeenTable[]): readonly SeenTable[] {
    const { move, site, place } = this;
    this.all = tables.map(({ name }) => name);
    this.stops = siteTablesFindings(move, site, this.all, place);
    const taken = tablesTaken(move, site, this.all);
    this.rowless = this.all.filter(name => taken(name) === 'structure');
    this.others = this.all.filter(name => taken(name) === 'nothing');
    return this.stops.length > 0 ? [] : tables.filter(({ name }) => taken(name) !== 'nothing');
  }

  findings(): Finding[] {
    return othersFinding(this.site, { all: this.all, others: this.others, place: this.place });
  }
}

/** Writes one table after the other into the dump so far, noting after each how far it has come. */
async function takeTables(
  run: StepRun,
  {
    folder,
    database,
    snapshot,
    rowless,
  }: {
    readonly folder: string;
    readonly database: DatabaseEnd;
    readonly snapshot: DatabaseSnapshot;
    readonly rowless: readonly string[];
  },
): Promise<{ dump: GrowingDump; tables: TakenTable[] }> {
  const wanted = { database: database.text, charset: snapshot.charset, rowless };
  const at = new Date();
  const before = run.again ? [] : await leftOver(folder, wanted, snapshot.own);
  const dump = await GrowingDump.open(join(folder, dumpSoFar), before.at(-1)?.dump);
  const tables = dump.whole.bytes > 0 ? before : [];
  if (tables.length === 0) await dump.add(async sink => sink.take(snapshot.head(at)));
  const all = snapshot.own.reduce((sum, { rows }) => sum + rows, 0);
  let rowsBefore = tables.reduce((sum, { rows }) => sum + rows, 0);
  let noted: Promise<void> = Promise.resolve();
  const mostOf = ({ name }: SeenTable) => (rowless.includes(name) ? 0 : undefined);
  const left = snapshot.own.slice(tables.length);
  snapshot.expect(left.map(table => ({ table, most: mostOf(table) })));
  for (const table of left) {
    run.signal.throwIfAborted();
    const progress = (rows: number) => {
      const done = rowsBefore + rows;
      run.events({ type: 'progress', what: table.name, done, of: Math.max(all, done), unit: 'rows' });
    };
    const most = mostOf(table);
    let rows = 0;
    await dump.add(async sink => {
      rows = await snapshot.writeTable(table, sink, run.signal, { progress, most });
    });
    await noted;
    tables.push({ table: table.name, rows, dump: dump.whole, of: at.toISOString() });
    noted = note(folder, dump, { ...wanted, tables });
    rowsBefore += rows;
    progress(0);
  }
  await noted;
  return { dump, tables };
}

/** Notes how far it has come, once that is on the disk. The next table is read meanwhile. */
function note(folder: string, dump: GrowingDump, soFar: TakenSoFar): Promise<void> {
  const text = JSON.stringify(soFar);
  const noting = dump.sync().then(() => writeWhole(join(folder, howFar), text));
  // Whoever waits for it hears of its error.
  noting.catch(() => {});
  return noting;
}

/** What an interrupted run of a short while ago noted as taken, as far as it is the same tables in the same order. */
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

/** What is done about tables that no transaction holds still, and what is reported about it. */
async function unsteadyFindings(
  snapshot: DatabaseSnapshot,
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
    finding({
      level: locked ? 'note' : 'warn',
      code: 'tables-without-transactions',
      place: database,
      what: locked
        ? `Nobody could write to these while they were read, for they are kept without transactions: ${names}`
        : `These are kept without transactions and could be written to while they were read: ${names}`,
      remedy: locked
        ? 'Nothing needs to be done'
        : 'Put the old site into maintenance mode and pack again with --again before the cutover',
    }),
  ];
}

/** A resumed dump has tables of two snapshots. */
function twoSnapshots(tables: readonly TakenTable[], database: string): Finding[] {
  const moments = [...new Set(tables.map(({ of }) => of))].sort();
  if (moments.length < 2) return [];
  const shown = (moment: string) => moment.slice(11, 19);
  return [
    finding({
      level: 'note',
      code: 'database-of-two-moments',
      place: database,
      what: `The dump was resumed: its tables come from two snapshots (${moments.map(shown).join(' and ')} UTC)`,
      remedy: 'If somebody wrote to the site meanwhile, take all again with "able-porter pack --again"',
    }),
  ];
}

/** Through a hatch, a snapshot lasts no longer than one request. */
function severalMoments({ moments }: DatabaseSnapshot, database: string): Finding[] {
  if (moments < 2) return [];
  return [
    finding({
      level: 'note',
      code: 'database-in-several-requests',
      place: database,
      what: `The tables were read in ${counted(moments, 'request')} through the hatch, each at a moment of its own`,
      remedy:
        'If somebody wrote to the site meanwhile, put it into maintenance mode and take all again with "able-porter pack --again"',
    }),
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

function programsFinding({ leftOut }: DatabaseSnapshot, place: string): Finding[] {
  if (leftOut.length === 0) return [];
  const shown = leftOut.slice(0, mostPrograms).map(({ what, why }) => `${what} (${why})`);
  const others = leftOut.length > mostPrograms ? `; and ${leftOut.length - mostPrograms} more` : '';
  return [
    finding({
      level: 'warn',
      code: 'programs-not-taken',
      place,
      what: `${counted(leftOut.length, 'view or program', 'views and programs')} of the database work with more than its own tables: ${shown.join('; ')}${others}`,
      remedy: 'Look at what they do, and make those that the site needs at the new server by hand',
    }),
  ];
}
