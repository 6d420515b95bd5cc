import { textOf } from '../../core/bytes.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import { counted } from '../../core/text/numbers.js';
import type { DatabaseEnd, LoadDone, LoadWarning, SeenServer } from '../../ends/database/database-end.js';
import { longestFor } from '../../ends/database/server/load.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { movedDump } from '../../ends/move-folder/crate.js';
import type { CratePart } from '../../ends/move-folder/crate-part.js';
import { newDatabaseOf } from '../move/databases.js';
import type { FindingLog } from '../move/step.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { tablesOfCrate } from '../move/tables.js';
import { newTableName, prefixChangeOf } from '../move/terms.js';
import type { LoadedDatabase } from './database/loaded.js';
import { provisionDatabase } from './database/provision.js';
import { type IncomingTables, type Replaced, replaceTables } from './database/replace-tables.js';
import { type EditDone, editSite } from './database/site-data.js';
import { forgetProof, type Proof, proofFindings, type TableProof, verifyLoad } from './database/verify.js';
import { withReconnect } from './database/with-reconnect.js';
import type { Deliverer } from './deliverer.js';

/** Loads the rewritten dump at the new server, verifies it by reading it back, and sets the site's data right. */
export class DatabaseDeliverer implements Deliverer {
  private readonly run: StepRun;
  private readonly family: Family;
  private readonly manifest: CrateManifest;
  private readonly part: CratePart;
  private made: readonly string[] = [];
  private loaded: LoadedDatabase | undefined;

  /** @param part the rewritten dump, whose checksum was found to be right */
  constructor(
    run: StepRun,
    { family, manifest, part }: { family: Family; manifest: CrateManifest; part: CratePart },
  ) {
    this.run = run;
    this.family = family;
    this.manifest = manifest;
    this.part = part;
  }

  /** Wrong credentials are better known before anything is transferred. */
  async prepare(): Promise<void> {
    this.made = await provisionDatabase(this.run.move);
  }

  async stage(findings: FindingLog): Promise<void> {
    const { run } = this;
    const database = newDatabaseOf(run.move);
    if (!database) {
      throw new UsageError({
        doing: 'Loading the new database',
        cause: 'the sheet gives no password for it',
        remedy:
          'Add new.database.password: ${NEW_DB_PASSWORD} and the password to .env; or let the dump be left as a file (new.database.dump)',
      });
    }
    try {
      this.loaded = await this.loadAt(database, findings);
    } catch (error) {
      run.signal.throwIfAborted();
      throw database.toPorterError(error, `Loading the new database ${database.text}`);
    }
  }

  /** The tables are in their place since they were loaded. */
  async publish(): Promise<readonly string[]> {
    return [];
  }

  get result(): LoadedDatabase | undefined {
    return this.loaded;
  }

  private async loadAt(database: DatabaseEnd, findings: FindingLog): Promise<LoadedDatabase> {
    const { run, part } = this;
    const { server, replaced } = await withReconnect(run, database, () => this.begin(database));
    const brief = { database: database.text, server: server.version, made: this.made };
    if (replaced?.findings.length) {
      findings.add(...replaced.findings);
      return { ...nothingLoaded, ...brief };
    }
    const load = await this.loadAll(database, server);
    const proof = await withReconnect(run, database, () => verifyLoad(run, database, part));
    const good = new Set(proof.tables.filter(one => one.equal && one.compared).map(({ table }) => table));
    findings.add(
      ...warningFindings(load.warnings, good, database),
      ...leftOutFindings(load.leftOut, database),
      ...proofFindings(proof.tables, database),
    );
    const { edits, tables } = await withReconnect(run, database, () => this.setRight(database, proof));
    return {
      ...brief,
      rows: proof.tables.reduce((sum, { rows }) => sum + rows, 0),
      tables,
      programs: proof.programs,
      dropped: replaced?.dropped ?? [],
      keepsake: replaced?.keepsake,
      fitted: Object.fromEntries(load.fitted),
      edits: edits.filter(({ rows }) => rows > 0),
    };
  }

  private get incoming(): IncomingTables {
    const { family, manifest } = this;
    const change = prefixChangeOf(this.run.move, family, manifest.from.prefix);
    return {
      family,
      prefix: change?.to ?? manifest.from.prefix ?? '',
      names: tablesOfCrate(this.run.move, manifest).own.map(({ table }) => newTableName(table, change)),
    };
  }

  /** Makes room for a load, unless one of the same dump has begun already. */
  private begin(database: DatabaseEnd): Promise<{ server: SeenServer; replaced: Replaced | undefined }> {
    const { run, part } = this;
    return database.use(async connection => {
      const server = await connection.server();
      const position = await connection.loadPosition();
      if (position?.dump === part.sha256) return { server, replaced: undefined };
      const replaced = await replaceTables(run, database, connection, this.incoming);
      if (replaced.findings.length === 0) {
        await noteDeed(run, 'deliver', { kind: 'loaded', database: database.text });
        await forgetProof(run);
        await connection.beginLoad(part.sha256);
      }
      return { server, replaced };
    });
  }

  /** Runs every statement of the dump, resuming where an earlier try or run was. */
  private loadAll(database: DatabaseEnd, server: SeenServer): Promise<LoadDone> {
    const { run, part } = this;
    let limit = longestFor(server);
    let reached = -1;
    return withReconnect(run, database, progressed =>
      database.use(async connection => {
        const position = (await connection.loadPosition()) ?? (await connection.beginLoad(part.sha256));
        if (position.done > reached) progressed();
        // The same place twice: the server may not bear statements as long as it says.
        else limit = Math.max(16 * 1024, limit / 4);
        reached = position.done;
        const progress = (done: number) =>
          run.events({ type: 'progress', what: 'loading the database', done, of: part.bytes, unit: 'bytes' });
        try {
          return await connection.load(run.move.crate.at(movedDump), position, {
            bench: run.move.bench,
            server,
            signal: run.signal,
            limit,
            progress,
          });
        } catch (error) {
          // A statement may still run, and closing the connection would wait for it.
          connection.destroy();
          throw error;
        }
      }),
    );
  }

  /** Makes the site's edits, and looks once more at the tables that they concern. */
  private setRight(
    database: DatabaseEnd,
    proof: Proof,
  ): Promise<{ edits: EditDone[]; tables: TableProof[] }> {
    return database.use(async connection => {
      const edits = await editSite(this.run, this.family, connection, this.incoming.prefix);
      // Also those that an interrupted run has edited, and where nothing is left to do now.
      const edited = new Set(edits.map(({ table }) => table));
      const columns = await connection.columns();
      const tables: TableProof[] = [];
      for (const one of proof.tables) {
        const own = edited.has(one.table) ? columns.get(one.table) : undefined;
        const after = own && (await connection.content(one.table, own));
        tables.push(after ? { ...one, digest: after.digest, taken: one.rows - after.rows } : one);
      }
      await connection.endLoad();
      return { edits, tables };
    });
  }
}

const nothingLoaded = {
  rows: 0,
  tables: [],
  programs: [],
  dropped: [],
  keepsake: undefined,
  fitted: {},
  edits: [],
};

/** Numbers by which servers say that a value was cut or changed when it was stored. */
const lossy = new Set([1264, 1265, 1292, 1366, 1406, 1411, 1300, 3988]);

/** @param good tables that were read back and are equal all the same */
function warningFindings(
  warnings: readonly LoadWarning[],
  good: ReadonlySet<string>,
  { name }: DatabaseEnd,
): Finding[] {
  const grave = warnings.filter(({ table }) => !good.has(textOf(table)));
  return grave.map(({ table, code, message, count }) => {
    const place = `${name}, table ${textOf(table)}`;
    const what = `The server warned ${count === 1 ? 'once' : `in ${count} statements`}: ${message} (${code})`;
    return lossy.has(code)
      ? finding({
          level: 'stop',
          code: 'value-not-stored-whole',
          place,
          what,
          remedy:
            'Values were cut or changed: compare type and character set of the column with the old server’s',
        })
      : finding({ level: 'warn', code: 'load-warned', place, what, remedy: 'Check whether the site minds' });
  });
}

function leftOutFindings(leftOut: readonly string[], { name }: DatabaseEnd): Finding[] {
  if (leftOut.length === 0) return [];
  const some = leftOut.slice(0, 3).map(statement => textOf(statement).replace(/\s+/g, ' '));
  return [
    finding({
      level: 'note',
      code: 'statements-left-out',
      place: name,
      what: `${counted(leftOut.length, 'statement')} of the dump were not run, since they concern other databases, users or the server: ${some.join('; ')}`,
      remedy: 'Do by hand at the new server what of it is needed',
    }),
  ];
}
