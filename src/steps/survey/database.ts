import type { SeenFolders } from '../../core/address/server-paths.js';
import { EndError, UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { families } from '../../core/site/families/families.js';
import { DumpSurvey } from '../../core/site/survey/dump-survey.js';
import { prefixesIn } from '../../core/site/survey/site-tables.js';
import type { DatabaseEnd, SeenDatabase, SeenTable } from '../../ends/database/database-end.js';
import { type OldDatabase, oldDatabaseOf } from '../move/databases.js';
import type { Move } from '../move/open.js';
import type { Site } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
import { siteInDatabase, tablesTaken } from '../move/tables.js';
import { lineFindings } from './database-line.js';
import { type SurveyedDump, seenIn } from './dump.js';

/** A database of the old server that the account sees. */
export interface ListedDatabase {
  readonly name: string;
  readonly tables: number;
  /** Bytes. */
  readonly size: number;
  /** The sites that live in it, by family and table prefix. */
  readonly sites: readonly { readonly family: string; readonly prefix: string }[];
  /** Whether the site uses it. */
  readonly used: boolean;
}

/** What was seen of the old database at its server. */
export interface OldServer {
  readonly listed: readonly ListedDatabase[];
  readonly dump: SurveyedDump | undefined;
  readonly folders: SeenFolders | undefined;
  readonly findings: readonly Finding[];
}

/** So many bytes of a table are looked through for addresses; of larger ones as many rows as make about that. */
const mostBytes = 32 * 1024 * 1024;

/** Looks at the old database and at those beside it. Nothing is changed. */
export async function surveyOldDatabase(run: StepRun, site: Site | undefined): Promise<OldServer> {
  const none = { listed: [], dump: undefined, folders: undefined };
  let old: OldDatabase;
  try {
    old = await oldDatabaseOf(run.move, site);
  } catch (error) {
    if (!(error instanceof UsageError)) throw error;
    return { ...none, findings: [unknownFinding(error)] };
  }
  const { database } = old;
  try {
    const seen = await database.use(connection => connection.databases());
    const listed = seen.map(one => listedAs(one, database.name));
    const { dump, folders } = await lookThrough(run, old, site);
    const crashed = seen
      .find(({ name }) => name === database.name)
      ?.tables.find(({ trouble }) => trouble !== undefined);
    const findings = [...(crashed ? [crashedFinding(database, crashed)] : []), ...lineFindings(database)];
    return { listed, dump, folders, findings };
  } catch (error) {
    const known = database.toPorterError(error, 'Looking at the old database');
    if (!(known instanceof EndError)) throw known;
    return { ...none, findings: [unreachedFinding(run.move, known, database)] };
  }
}

function unknownFinding({ details: { cause, remedy } }: UsageError): Finding {
  return finding({
    level: 'stop',
    code: 'database-missing',
    place: 'old.database',
    what: `The old database is not known: ${cause}`,
    remedy,
  });
}

function crashedFinding({ name }: DatabaseEnd, table: SeenTable): Finding {
  return finding({
    level: 'stop',
    code: 'table-crashed',
    place: `${name}, table ${table.name}`,
    what: `The server cannot open it: ${table.trouble}`,
    remedy: `Repair it at the old host (REPAIR TABLE ${table.name}), or drop it if nothing needs it`,
  });
}

function listedAs({ name, tables }: SeenDatabase, used: string): ListedDatabase {
  const names = tables.map(table => table.name);
  const sites = families.flatMap(({ name: family, coreTables }) =>
    prefixesIn(names, coreTables).map(prefix => ({ family, prefix })),
  );
  return {
    name,
    tables: tables.length,
    size: tables.reduce((sum, { bytes }) => sum + bytes, 0),
    sites,
    used: name === used,
  };
}

/** Reads the tables as a dump of them would say them, as far as is needed to see what addresses are in them. */
async function lookThrough(
  run: StepRun,
  { database, charset }: OldDatabase,
  site: Site | undefined,
): Promise<{ dump: SurveyedDump; folders: SeenFolders }> {
  const family = site?.family;
  const began = performance.now();
  const reader = new DumpSurvey(run.move.bench, family?.landmark);
  let all: readonly string[] = [];
  const choose = (seen: readonly SeenTable[]) => {
    all = seen.map(({ name }) => name);
    const taken = tablesTaken(run.move, siteInDatabase(site), all);
    return seen.filter(({ name }) => taken(name) !== 'nothing');
  };
  const snapshot = await database.snapshot({ charset, choose });
  const sink = { take: (chunk: Buffer) => reader.push(chunk), waiting: 0, room: async () => {} };
  try {
    sink.take(snapshot.head(new Date()));
    const tables = snapshot.own.filter(({ trouble }) => trouble === undefined);
    const mostOf = ({ bytes, rows }: SeenTable) =>
      bytes <= mostBytes ? undefined : Math.ceil((rows * mostBytes) / bytes);
    snapshot.expect(tables.map(table => ({ table, most: mostOf(table) })));
    for (const [i, table] of tables.entries()) {
      run.events({ type: 'progress', what: table.name, done: i, of: tables.length, unit: 'tables' });
      await snapshot.writeTable(table, sink, run.signal, { most: mostOf(table) });
    }
    reader.push(snapshot.tail());
    reader.finish();
    const sizes = new Map(snapshot.own.map(table => [table.name, table]));
    const seen = seenIn(reader, database.text, family, began);
    // Of a table that was not read whole, the server's estimate says more.
    const estimated = seen.tables.map(one => {
      const whole = sizes.get(one.name);
      return whole && whole.bytes > mostBytes ? { ...one, rows: whole.rows, bytes: whole.bytes } : one;
    });
    const dump: SurveyedDump = { ...seen, tables: estimated, all };
    return { dump, folders: reader.folders };
  } finally {
    await snapshot.close().catch(() => {});
  }
}

function unreachedFinding(
  move: Move,
  { kind, details: { cause, remedy } }: EndError,
  { text }: DatabaseEnd,
): Finding {
  const place = `old.database: ${text}`;
  if (kind === 'credentials') {
    const what = `The old database refuses the user or the password (${cause})`;
    return finding({ level: 'stop', code: 'database-credentials', place, what, remedy });
  }
  if (kind === 'no such database') {
    const what = `The old database is not there, or this user may not open it (${cause})`;
    return finding({ level: 'stop', code: 'database-missing', place, what, remedy });
  }
  if (kind === 'refused') {
    const what = `The old database server refuses: ${cause}`;
    return finding({ level: 'stop', code: 'database-refuses', place, what, remedy });
  }
  return finding({
    level: 'stop',
    code: 'database-not-reached',
    place,
    what: `The old database cannot be reached from here (${cause})`,
    remedy: move.oldFiles?.text.startsWith('sftp:')
      ? 'Go through the files’ SSH (old.database.through: files), or take a dump in the host’s panel and name it (dump: old.sql.gz)'
      : 'Take a dump in the host’s panel and name it (dump: old.sql.gz); where the host has SSH, files over sftp:// lead to the database too (through: files)',
  });
}
