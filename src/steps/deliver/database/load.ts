import { textOf } from '../../../core/bytes.js';
import type { Program } from '../../../core/database/dump-content.js';
import { shownDatabase } from '../../../core/database/place.js';
import { PartWayError, UsageError } from '../../../core/errors.js';
import type { Finding } from '../../../core/findings.js';
import type { Family } from '../../../core/site/families/family.js';
import { columnsOf } from '../../../ends/database/server/catalog.js';
import { contentOf } from '../../../ends/database/server/content.js';
import {
  beginLoad,
  endLoad,
  type LoadDone,
  type LoadWarning,
  loadDump,
  longestFor,
  positionOf,
} from '../../../ends/database/server/load.js';
import { type SeenServer, serverOf } from '../../../ends/database/server/probe.js';
import {
  asDatabaseTrouble,
  DatabaseSession,
  type DatabaseWay,
  isLost,
  withDatabase,
} from '../../../ends/database/server/session.js';
import { keepMemoryLow } from '../../../ends/memory.js';
import type { CrateManifest } from '../../../ends/move-folder/crate.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { CratePart } from '../../../ends/move-folder/crate-part.js';
import { newDatabaseOf } from '../../move/databases.js';
import { newTableName, prefixChangeOf } from '../../move/open.js';
import { noteDone, type StepRun } from '../../move/step.js';
import { clearTables } from './replace-tables.js';
import { type EditDone, editSite } from './site-data.js';
import { forgetProof, own, proofFindings, proved, type TableProof } from './verify.js';

/** What a load came to. */
export interface LoadedDatabase {
  readonly database: string;
  readonly server: string;
  readonly rows: number;
  readonly tables: readonly TableProof[];
  /** Views, triggers and the like that the dump made. */
  readonly programs: readonly Program[];
  /** Tables that stood there and were kept in a dump. */
  readonly dropped: readonly string[];
  readonly keepsake: string | undefined;
  /** What was changed so that the server takes the dump, and how often. */
  readonly fitted: Readonly<Record<string, number>>;
  readonly edits: readonly EditDone[];
  /** What was made with the administrator's credentials. */
  readonly made: readonly string[];
}

/** How long is waited before each try to come back to a server, in seconds. */
const pauses = [1, 2, 4, 8, 15, 30];

/**
 * Loads the rewritten dump at the new server, proves it by reading it back, and sets the site's data right.
 * @param made what was made there before, in words
 */
export async function loadDatabase(
  run: StepRun,
  family: Family,
  manifest: CrateManifest,
  part: CratePart,
  made: readonly string[],
): Promise<{ loaded: LoadedDatabase; findings: Finding[] }> {
  const { move } = run;
  const way = newDatabaseOf(move);
  if (!way) {
    throw new UsageError({
      doing: 'Loading the new database',
      cause: 'the sheet gives no password for it',
      remedy:
        'Add new.database.password: ${NEW_DB_PASSWORD} and the password to .env; or let the dump be left as a file (new.database.dump)',
    });
  }
  const doing = `Loading the new database ${shownDatabase(way.place)}`;
  try {
    return await loadAt(run, family, manifest, part, way, made);
  } catch (error) {
    run.signal.throwIfAborted();
    throw asDatabaseTrouble(error, doing);
  }
}

async function loadAt(
  run: StepRun,
  family: Family,
  manifest: CrateManifest,
  part: CratePart,
  way: DatabaseWay,
  made: readonly string[],
): Promise<{ loaded: LoadedDatabase; findings: Finding[] }> {
  keepMemoryLow();
  const { move } = run;
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  const prefix = change?.to ?? manifest.from.prefix ?? '';
  const incoming = manifest.tables.map(({ table }) => newTableName(table, change));
  const findings: Finding[] = [];
  const { server, cleared } = await enduring(run, way, () =>
    withDatabase(way, async session => {
      const seen = await serverOf(session, way.place.name);
      const begun = await positionOf(session);
      const kept =
        begun?.dump === part.sha256 ? undefined : await clearTables(run, session, family, prefix, incoming);
      if (kept && kept.findings.length === 0) {
        await noteDone(run, 'deliver', { loads: shownDatabase(way.place) });
        await forgetProof(run);
        await beginLoad(session, part.sha256);
      }
      return { server: seen, cleared: kept };
    }),
  );
  if (cleared?.findings.length) return { loaded: nothing(way, server), findings: [...cleared.findings] };
  const load = await loadAll(run, way, server, part);
  const proof = await enduring(run, way, () => proved(run, way, part));
  const good = new Set(proof.tables.filter(one => one.equal && one.compared).map(({ table }) => table));
  findings.push(...warningFindings(load.warnings, good, way), ...leftOutFindings(load.leftOut, way));
  findings.push(...proofFindings(proof.tables, way));
  const edits = await enduring(run, way, () =>
    withDatabase(way, async session => {
      const done = await editSite(run, family, session, prefix);
      // Also those that a broken-off run has edited, and where nothing is left to do now.
      const edited = new Set(done.map(({ table }) => table));
      const columns = await columnsOf(session);
      const tables: TableProof[] = [];
      for (const one of proof.tables) {
        const after = edited.has(one.table)
          ? await contentOf(session, one.table, own(columns, one.table))
          : undefined;
        tables.push(after ? { ...one, digest: after.digest, taken: one.rows - after.rows } : one);
      }
      await endLoad(session);
      return { done, tables };
    }),
  );
  const loaded: LoadedDatabase = {
    database: shownDatabase(way.place),
    server: server.version,
    rows: proof.tables.reduce((sum, { rows }) => sum + rows, 0),
    tables: edits.tables,
    programs: proof.programs,
    dropped: cleared?.dropped ?? [],
    keepsake: cleared?.keepsake,
    fitted: Object.fromEntries(load.fitted),
    edits: edits.done.filter(({ rows }) => rows > 0),
    made,
  };
  return { loaded, findings };
}

function nothing(way: DatabaseWay, server: SeenServer): LoadedDatabase {
  return {
    database: shownDatabase(way.place),
    server: server.version,
    rows: 0,
    tables: [],
    programs: [],
    dropped: [],
    keepsake: undefined,
    fitted: {},
    edits: [],
    made: [],
  };
}

/** Runs every statement of the dump, going on where an earlier try or run was. */
async function loadAll(
  run: StepRun,
  way: DatabaseWay,
  server: SeenServer,
  part: CratePart,
): Promise<LoadDone> {
  let limit = longestFor(server);
  let reached = -1;
  return enduring(run, way, async gotOn => {
    const session = await DatabaseSession.open(way);
    try {
      const position = (await positionOf(session)) ?? (await beginLoad(session, part.sha256));
      if (position.done > reached) gotOn();
      // The same place twice: the server may not bear statements as long as it says.
      else limit = Math.max(16 * 1024, limit / 4);
      reached = position.done;
      const progress = (done: number) =>
        run.events({ type: 'progress', what: 'loading the database', done, of: part.bytes, unit: 'bytes' });
      return await loadDump(session, run.move.crate.at(movedDump), position, {
        server,
        signal: run.signal,
        limit,
        progress,
      });
    } finally {
      session.destroy();
    }
  });
}

/**
 * Does work with a database; when the connection is lost, waits with growing pauses and does it again.
 * @param work must be safe to do again; it may say that it got on, and then there is patience anew
 */
async function enduring<T>(
  run: StepRun,
  way: DatabaseWay,
  work: (gotOn: () => void) => Promise<T>,
): Promise<T> {
  let lost = 0;
  for (;;) {
    run.signal.throwIfAborted();
    try {
      return await work(() => {
        lost = 0;
      });
    } catch (error) {
      run.signal.throwIfAborted();
      if (!isLost((error as Error).cause ?? error)) throw error;
      const pause = pauses[lost++];
      if (pause === undefined) {
        throw new PartWayError(
          {
            doing: `Loading the new database ${shownDatabase(way.place)}`,
            cause: 'the connection was lost and did not come back',
            remedy: 'Run the command again when the server answers; it goes on where it was',
          },
          { cause: error },
        );
      }
      run.events({
        type: 'message',
        text: `The connection to the database was lost; trying again in ${pause} s (${lost} of ${pauses.length})`,
      });
      await new Promise(resolve => setTimeout(resolve, pause * 1000));
    }
  }
}

/** Numbers by which servers say that a value was cut or changed when it was stored. */
const lossy = new Set([1264, 1265, 1292, 1366, 1406, 1411, 1300, 3988]);

/** @param good tables that were read back and are equal all the same */
function warningFindings(
  warnings: readonly LoadWarning[],
  good: ReadonlySet<string>,
  way: DatabaseWay,
): Finding[] {
  const grave = warnings.filter(({ table }) => !good.has(textOf(table)));
  return grave.map(({ table, code, message, count }) => ({
    level: lossy.has(code) ? 'stop' : 'warn',
    code: lossy.has(code) ? 'value-not-stored-whole' : 'load-warned',
    place: `${way.place.name}, table ${textOf(table)}`,
    what: `The server warned ${count === 1 ? 'once' : `in ${count} statements`}: ${message} (${code})`,
    remedy: lossy.has(code)
      ? 'Values were cut or changed: compare type and character set of the column with the old server’s'
      : 'Look whether the site minds',
  }));
}

function leftOutFindings(leftOut: readonly string[], way: DatabaseWay): Finding[] {
  if (leftOut.length === 0) return [];
  const some = leftOut.slice(0, 3).map(sql => textOf(sql).replace(/\s+/g, ' '));
  return [
    {
      level: 'note',
      code: 'statements-left-out',
      place: way.place.name,
      what: `${leftOut.length} statements of the dump were not run, for they work on other databases, on users or on the server: ${some.join('; ')}`,
      remedy: 'Do by hand at the new server what of it is needed',
    },
  ];
}
