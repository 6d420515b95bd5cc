import type { SeenFolders } from '../../core/address/server-paths.js';
import { shownDatabase } from '../../core/database/place.js';
import { EndError, UsageError } from '../../core/errors.js';
import type { Finding } from '../../core/findings.js';
import { families } from '../../core/site/families/families.js';
import type { Family } from '../../core/site/families/family.js';
import { DumpSurvey, prefixesIn } from '../../core/site/survey/dump-survey.js';
import { databasesSeen, type SeenDatabase } from '../../ends/database/server/catalog.js';
import {
  asDatabaseTrouble,
  type DatabaseWay,
  refusalKindOf,
  type ServerSaid,
  withDatabase,
} from '../../ends/database/server/session.js';
import { Snapshot } from '../../ends/database/server/snapshot.js';
import { oldDatabaseOf } from '../move/databases.js';
import type { Site } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
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
  const { move } = run;
  const none = { listed: [], dump: undefined, folders: undefined };
  let way: DatabaseWay;
  let charset: string | undefined;
  try {
    ({ way, charset } = await oldDatabaseOf(move, site));
  } catch (error) {
    if (!(error instanceof UsageError)) throw error;
    const { cause, remedy } = error.told;
    return {
      ...none,
      findings: [
        refused(
          'stop',
          'database-missing',
          'old.database',
          `The old database is not known: ${cause}`,
          remedy,
        ),
      ],
    };
  }
  try {
    const seen = await withDatabase(way, databasesSeen);
    const listed = seen.map(one => listedAs(one, way.place.name));
    const { dump, folders } = await lookThrough(run, way, charset, site?.family);
    const crashed = seen
      .find(({ name }) => name === way.place.name)
      ?.tables.find(({ trouble }) => trouble !== undefined);
    const findings = crashed
      ? [
          refused(
            'stop',
            'table-crashed',
            `${way.place.name}, table ${crashed.name}`,
            `The server cannot open it: ${crashed.trouble}`,
            `Repair it at the old host (REPAIR TABLE ${crashed.name}), or drop it if nothing needs it`,
          ),
        ]
      : [];
    return { listed, dump, folders, findings };
  } catch (error) {
    const told = asDatabaseTrouble(error, 'Looking at the old database');
    if (!(told instanceof EndError)) throw told;
    return { ...none, findings: [unreachedFinding(told, way)] };
  }
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

/** Reads the tables as a dump of them would say them, as far as is needed to see what addresses stand in them. */
async function lookThrough(
  run: StepRun,
  way: DatabaseWay,
  charset: string | undefined,
  family: Family | undefined,
): Promise<{ dump: SurveyedDump; folders: SeenFolders }> {
  const began = performance.now();
  const reader = new DumpSurvey(family?.landmark);
  const snapshot = await Snapshot.open(way, charset, () => true);
  const sink = { take: (chunk: Buffer) => reader.push(chunk), waiting: 0, room: async () => {} };
  try {
    sink.take(snapshot.head(new Date()));
    const tables = snapshot.own.filter(({ trouble }) => trouble === undefined);
    for (const [i, table] of tables.entries()) {
      run.events({ type: 'progress', what: table.name, done: i, of: tables.length, unit: 'tables' });
      const some = table.bytes <= mostBytes ? undefined : Math.ceil((table.rows * mostBytes) / table.bytes);
      await snapshot.writeTable(table, sink, run.signal, { most: some });
    }
    reader.push(snapshot.tail());
    reader.finish();
    const sizes = new Map(snapshot.own.map(table => [table.name, table]));
    const seen = seenIn(reader, shownDatabase(way.place), family, began);
    // Of a table that was not read whole, the server's estimate says more.
    const estimated = seen.tables.map(one => {
      const whole = sizes.get(one.name);
      return whole && whole.bytes > mostBytes ? { ...one, rows: whole.rows, bytes: whole.bytes } : one;
    });
    const dump: SurveyedDump = { ...seen, tables: estimated };
    return { dump, folders: reader.folders };
  } finally {
    await snapshot.close().catch(() => {});
  }
}

function unreachedFinding(error: EndError, { place }: DatabaseWay): Finding {
  const kind = refusalKindOf((error.cause ?? {}) as ServerSaid);
  const { cause, remedy } = error.told;
  const where = `old.database: ${shownDatabase(place)}`;
  const codes = {
    unreachable: 'database-not-reached',
    credentials: 'database-credentials',
    'no such database': 'database-missing',
    refused: 'database-refuses',
  } as const;
  const what = {
    unreachable: `The old database cannot be reached from here (${cause})`,
    credentials: `The old database refuses the user or the password (${cause})`,
    'no such database': `The old database is not there, or this user may not open it (${cause})`,
    refused: `The old database server refuses: ${cause}`,
  }[kind];
  const other =
    kind === 'unreachable'
      ? 'Go through the files’ SSH (old.database.through: files), or take a dump in the host’s panel and name it (dump: old.sql.gz)'
      : remedy;
  return refused('stop', codes[kind], where, what, other);
}

function refused(
  level: Finding['level'],
  code: Finding['code'],
  place: string,
  what: string,
  remedy: string,
): Finding {
  return { level, code, place, what, remedy };
}
