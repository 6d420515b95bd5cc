import { setTimeout } from 'node:timers/promises';
import { bytesOfText, textOf } from '../../core/bytes.js';
import { doneNoteName, loadNoteName } from '../../core/database/reserved-names.js';
import { Staging } from '../../core/database/staging.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { KeptBy } from '../../core/journal.js';
import type { Family } from '../../core/site/families/family.js';
import { counted } from '../../core/text/numbers.js';
import type {
  DatabaseConnection,
  DatabaseEnd,
  LoadDone,
  LoadWarning,
  SeenServer,
} from '../../ends/database/database-end.js';
import { longestFor } from '../../ends/database/server/load.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { movedDump } from '../../ends/move-folder/crate.js';
import type { CratePart } from '../../ends/move-folder/crate-part.js';
import { newDatabaseOf } from '../move/databases.js';
import { ledgerOf } from '../move/ledger.js';
import type { FindingLog } from '../move/step.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { StateFolder } from './database/delivered-state.js';
import { keepInDump } from './database/load-in-place.js';
import type { LoadedDatabase } from './database/loaded.js';
import { provisionDatabase } from './database/provision.js';
import {
  type IncomingTables,
  incomingTables,
  noSwapFinding,
  type Replacement,
  replacementFindings,
  replacementIn,
  swapObstacle,
} from './database/replacement.js';
import { type EditDone, editSite } from './database/site-data.js';
import { endSwap, swapTables } from './database/swap-tables.js';
import {
  forgetProof,
  type LoadedNames,
  noteState,
  type Proof,
  proofFindings,
  type TableProof,
  verifyLoad,
} from './database/verify.js';
import { withReconnect } from './database/with-reconnect.js';
import { type WrittenSince, writtenSince } from './database/written-since.js';
import type { Deliverer } from './deliverer.js';

/** What was found out before anything was changed. */
interface Plan {
  readonly server: SeenServer;
  readonly replacement: Replacement;
  /** Why the tables cannot be loaded beside those that they replace. */
  readonly obstacle: string | undefined;
  /** What the new site has written since the last delivery; undefined where none is known. */
  readonly written: WrittenSince | undefined;
  /** Whether nothing of this move has been put into its place there yet. */
  readonly isFirst: boolean;
  /** Whether an interrupted run has put the tables in their places already. */
  readonly isSwapped: boolean;
}

/** What a load and its verification gave. */
interface Loaded {
  readonly proof: Proof;
  readonly tables: readonly TableProof[];
  readonly edits: readonly EditDone[];
  readonly fitted: Readonly<Record<string, number>>;
}

/** How often, and at what distance in milliseconds, one looks whether others still ask the database. */
const mostLooks = 20;
const betweenLooks = 250;

/** What is known of a load that waits for its place, in the move folder. */
const stagedLoad = 'results/staged.json';

/**
 * Loads the rewritten dump at the new server beside the tables that are there, verifies it by reading it back, sets the
 * site's data right, and then puts all tables in their places at once.
 */
export class DatabaseDeliverer implements Deliverer {
  private readonly run: StepRun;
  private readonly family: Family;
  private readonly manifest: CrateManifest;
  private readonly part: CratePart;
  private made: readonly string[] = [];
  private plan: Plan | undefined;
  private staging: Staging | undefined;
  private loaded: Loaded | undefined;
  private keptAs: string | undefined;
  private isDelivered = false;

  /** @param part the rewritten dump, whose checksum was found to be right */
  constructor(
    run: StepRun,
    {
      family,
      manifest,
      part,
    }: {
      readonly family: Family;
      readonly manifest: CrateManifest;
      readonly part: CratePart;
    },
  ) {
    this.run = run;
    this.family = family;
    this.manifest = manifest;
    this.part = part;
  }

  /** Wrong credentials are better known before anything is transferred. */
  async prepare(): Promise<void> {
    this.made = await provisionDatabase(this.run);
  }

  /** What the new site has written into its tables since the last delivery. */
  async changes(): Promise<WrittenSince | undefined> {
    this.plan ??= await this.working(database => this.planAt(database));
    return this.plan.written;
  }

  /** Waits, for some seconds, until the requests that are under way now have ended. */
  async waitForOthers(): Promise<void> {
    await this.working(database =>
      database.use(async connection => {
        const asking = new Set(await connection.others());
        for (let tries = 0; tries < mostLooks && asking.size > 0; tries++) {
          await setTimeout(betweenLooks, undefined, { signal: this.run.signal });
          const still = new Set(await connection.others());
          for (const id of asking) if (!still.has(id)) asking.delete(id);
        }
      }),
    );
  }

  async stage(findings: FindingLog): Promise<void> {
    await this.working(async database => {
      this.plan ??= await this.planAt(database);
      const { replacement, obstacle, isSwapped: isThere } = this.plan;
      if (isThere) {
        this.loaded = await this.loadedBefore(database);
        return;
      }
      const why = await database.use(connection =>
        replacementFindings(this.run.move, database, connection, replacement, this.incoming),
      );
      findings.add(...why);
      if (findings.stops) return;
      if (obstacle !== undefined) findings.add(noSwapFinding(database, obstacle));
      else this.loaded = await this.loadAt(database, findings);
    });
  }

  async publish(findings: FindingLog): Promise<readonly string[]> {
    const { plan } = this;
    if (!plan) return [];
    await this.working(async database => {
      if (plan.obstacle === undefined) await this.swapAt(database, plan);
      else await this.replaceAt(database, plan, findings);
      await new StateFolder(this.run.move, 'staged').replace(new StateFolder(this.run.move, 'delivered'));
      await withReconnect(this.run, database, () =>
        database.use(connection => endSwap(connection, this.incoming.prefix)),
      );
      this.isDelivered = true;
    });
    return [];
  }

  get result(): LoadedDatabase | undefined {
    const { plan, loaded } = this;
    if (!plan) return undefined;
    const database = newDatabaseOf(this.run.move)?.text ?? '';
    const brief = { database, server: plan.server.version, made: this.made };
    if (!loaded || !this.isDelivered) return { ...nothingLoaded, ...brief };
    return {
      ...brief,
      rows: loaded.proof.tables.reduce((sum, { rows }) => sum + rows, 0),
      tables: loaded.tables,
      programs: loaded.proof.programs,
      dropped: plan.replacement.replaced.map(({ name }) => name),
      keepsake: this.keptAs,
      fitted: loaded.fitted,
      edits: loaded.edits.filter(({ rows }) => rows > 0),
    };
  }

  private get incoming(): IncomingTables {
    return incomingTables(this.run.move, this.family, this.manifest);
  }

  private async working<T>(work: (database: DatabaseEnd) => Promise<T>): Promise<T> {
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
      return await work(database);
    } catch (error) {
      run.signal.throwIfAborted();
      throw database.toPorterError(error, `Loading the new database ${database.text}`);
    }
  }

  private planAt(database: DatabaseEnd): Promise<Plan> {
    const { run, family, incoming } = this;
    return withReconnect(run, database, () =>
      database.use(async connection => {
        const server = await connection.server();
        const isThere = await this.finishEarlier(connection);
        const replacement = await replacementIn(run.move, connection, incoming);
        const missing = await connection.missingAbilities();
        const folder = new StateFolder(run.move, 'delivered');
        const state = await folder.read();
        const isOurs = state?.database === database.text && !isThere;
        const written = isOurs
          ? await writtenSince(run, connection, { family, prefix: incoming.prefix, state, folder })
          : undefined;
        const obstacle = swapObstacle(run.move, replacement, missing);
        return { server, replacement, obstacle, written, isFirst: state === undefined, isSwapped: isThere };
      }),
    );
  }

  /**
   * Looks whether an interrupted run has put its tables in their places. Those of another dump were delivered, then, and are
   * what is replaced now.
   * @returns whether they are those of this dump
   */
  private async finishEarlier(connection: DatabaseConnection): Promise<boolean> {
    const { prefix } = this.incoming;
    const done = await connection.loadPosition(doneNoteName(prefix));
    if (!done) return false;
    if (done.dump === this.part.sha256) return true;
    const staged = new StateFolder(this.run.move, 'staged');
    if ((await staged.read())?.dump === done.dump)
      await staged.replace(new StateFolder(this.run.move, 'delivered'));
    await endSwap(connection, prefix);
    return false;
  }

  /** What a run that was interrupted after the swap had loaded. */
  private async loadedBefore(database: DatabaseEnd): Promise<Loaded | undefined> {
    // Views and programs may be missing still, and are in the dump.
    await this.loadAll(database, this.plan!.server, true);
    const text = await this.run.move.folder.read(stagedLoad);
    const loaded = text === undefined ? undefined : (JSON.parse(text) as Loaded);
    return loaded?.proof.dump === this.part.sha256 ? loaded : undefined;
  }

  /** Loads, verifies and edits the tables, in their place or beside it. */
  private async loadAt(database: DatabaseEnd, findings: FindingLog): Promise<Loaded> {
    const { run, part } = this;
    const { server, obstacle } = this.plan!;
    await withReconnect(run, database, () => this.begin(database));
    const load = await this.loadAll(database, server, obstacle === undefined);
    const { names } = this;
    const proof = await withReconnect(run, database, () => verifyLoad(run, database, part, names));
    const good = new Set(proof.tables.filter(one => one.equal && one.compared).map(({ table }) => table));
    findings.add(
      ...warningFindings(this.finalWarnings(load), good, database),
      ...leftOutFindings(load.leftOut, database),
      ...proofFindings(proof.tables, database),
    );
    const edits = await withReconnect(run, database, () =>
      database.use(connection => editSite(run, this.family, connection, this.incoming.prefix, names)),
    );
    const edited = new Set(edits.map(({ table }) => table));
    const tables = await withReconnect(run, database, () => noteState(run, database, proof, names, edited));
    const loaded: Loaded = { proof, tables, edits, fitted: Object.fromEntries(load.fitted) };
    await run.move.folder.write(stagedLoad, JSON.stringify(loaded));
    return loaded;
  }

  /** What the server warned of, by the names that the tables are to have. */
  private finalWarnings({ warnings }: LoadDone): LoadWarning[] {
    return warnings.map(one => ({
      ...one,
      table: bytesOfText(this.staging?.final(textOf(one.table)) ?? textOf(one.table)),
    }));
  }

  /** The names of the tables while they are made ready. */
  private get names(): LoadedNames {
    return { tables: this.incoming.names, of: table => this.staging?.of(table) ?? table };
  }

  /** Makes room for a load, unless one of the same dump has begun already. */
  private begin(database: DatabaseEnd): Promise<void> {
    const { run, part, incoming } = this;
    return database.use(async connection => {
      const note = loadNoteName(incoming.prefix);
      for (const name of [note, doneNoteName(incoming.prefix)])
        if ((await connection.loadPosition(name))?.dump === part.sha256) return;
      await noteDeed(run, 'deliver', { kind: 'loaded', database: database.text, tables: incoming.names });
      await forgetProof(run);
      // What another load has left waiting.
      const staging = new Staging(incoming.names, []);
      const waiting = new Set(incoming.names.map(name => staging.of(name)));
      await connection.drop((await connection.tables()).filter(({ name }) => waiting.has(name)));
      await connection.beginLoad(note, part.sha256);
    });
  }

  /** Runs every statement of the dump, resuming where an earlier try or run was. */
  private loadAll(database: DatabaseEnd, server: SeenServer, beside: boolean): Promise<LoadDone> {
    const { run, part, incoming } = this;
    const note = loadNoteName(incoming.prefix);
    let limit = longestFor(server);
    let reached = -1;
    return withReconnect(run, database, progressed =>
      database.use(async connection => {
        const done = await connection.loadPosition(doneNoteName(incoming.prefix));
        const position =
          done ?? (await connection.loadPosition(note)) ?? (await connection.beginLoad(note, part.sha256));
        const taken = (await connection.foreignKeys()).map(({ name }) => name);
        this.staging = beside ? new Staging(incoming.names, taken) : undefined;
        if (position.done > reached) progressed();
        // The same place twice: the server may not bear statements as long as it says.
        else limit = Math.max(16 * 1024, limit / 4);
        reached = position.done;
        const progress = (read: number) =>
          run.events({
            type: 'progress',
            what: 'loading the database',
            done: read,
            of: part.bytes,
            unit: 'bytes',
          });
        try {
          return await connection.load(run.move.crate.at(movedDump), position, {
            bench: run.move.bench,
            server,
            signal: run.signal,
            limit,
            progress,
            staging: this.staging,
          });
        } catch (error) {
          // A statement may still run, and closing the connection would wait for it.
          connection.destroy();
          throw error;
        }
      }),
    );
  }

  /** Puts the staged tables in their places. What nobody but a delivery of ours has made need not be kept. */
  private async swapAt(
    database: DatabaseEnd,
    { replacement, server, isFirst, written }: Plan,
  ): Promise<void> {
    const { run, incoming, staging } = this;
    if (!staging) return;
    const isSpare = written !== undefined && written.changed.size === 0;
    const keepsake = { number: (await ledgerOf(run.move)).numberOfDelivery, by: byOf(isFirst), isSpare };
    await withReconnect(run, database, () =>
      database.use(connection =>
        swapTables(run, database, connection, { staging, incoming, replacement, server, keepsake }),
      ),
    );
    await this.keepOrDrop(database, keepsake.number);
  }

  /** Drops a keepsake of what an earlier delivery had put there and nobody has changed since. */
  private async keepOrDrop(database: DatabaseEnd, number: number): Promise<void> {
    const { run } = this;
    const kept = (await ledgerOf(run.move)).keepsakes
      .get(number)
      ?.data.find(one => one.kind === 'tables kept' && one.database === database.text);
    if (kept?.kind !== 'tables kept') return;
    if (!kept.isSpare) {
      if (kept.tables.length > 0) this.keptAs = `the database ${database.name} (keepsake ${number})`;
      return;
    }
    await withReconnect(run, database, () =>
      database.use(connection => connection.drop(kept.tables.map(({ as }) => ({ kind: 'table', name: as })))),
    );
    await noteDeed(run, 'deliver', { kind: 'keepsake gone', number, what: 'database' });
  }

  /** Replaces the tables where they are: they are kept in a dump first. */
  private async replaceAt(database: DatabaseEnd, plan: Plan, findings: FindingLog): Promise<void> {
    const { run, part, incoming } = this;
    const number = (await ledgerOf(run.move)).numberOfDelivery;
    await withReconnect(run, database, () =>
      database.use(async connection => {
        if ((await connection.loadPosition(loadNoteName(incoming.prefix)))?.dump === part.sha256) return;
        const isOurs = !plan.isFirst && plan.written !== undefined && plan.written.changed.size === 0;
        if (isOurs) await connection.drop(plan.replacement.replaced);
        else
          await keepInDump(run, database, connection, plan.replacement.replaced, {
            number,
            by: byOf(plan.isFirst),
          });
      }),
    );
    this.loaded = await this.loadAt(database, findings);
    const kept = (await ledgerOf(run.move)).keepsakes.get(number)?.data.find(one => one.kind === 'dump kept');
    if (kept?.kind === 'dump kept') this.keptAs = run.move.folder.at(kept.file);
  }
}

function byOf(isFirst: boolean): KeptBy {
  return isFirst ? 'first delivery' : 'delivery';
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
