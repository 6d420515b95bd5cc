import { setTimeout } from 'node:timers/promises';
import { type ByteString, textOf } from '../../core/bytes.js';
import { doneNoteName, loadNoteName } from '../../core/database/reserved-names.js';
import { type RowsToChange, rowsToPut } from '../../core/database/row-changes.js';
import type { LaterStatement } from '../../core/database/staging.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { KeptBy } from '../../core/journal.js';
import type { DataEdit } from '../../core/site/data/data-edits.js';
import type { Family } from '../../core/site/families/family.js';
import { subjectOf } from '../../core/sql/subject.js';
import type { DatabaseConnection, DatabaseEnd, SeenServer } from '../../ends/database/database-end.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import type { CratePart } from '../../ends/move-folder/crate-part.js';
import { missingAbilities, newDatabaseOf, serverSeen } from '../move/databases.js';
import { ledgerOf } from '../move/ledger.js';
import {
  type IncomingTables,
  incomingTables,
  noSwapFinding,
  type Replacement,
  replacementFindings,
  replacementIn,
  swapObstacle,
} from '../move/replacement.js';
import type { FindingLog } from '../move/step.js';
import { noteDeed, type StepRun } from '../move/step.js';
import { planRows, type RowPlan, rowsOfPlan } from './database/change-rows.js';
import { StateFolder } from './database/delivered-state.js';
import { keepInDump } from './database/load-in-place.js';
import type { LoadedDatabase } from './database/loaded.js';
import { noteRowsState, proofsOf } from './database/merged-state.js';
import { putRows } from './database/put-rows.js';
import { type EditDone, EditsDone, editsWanted, noteHeld } from './database/site-data.js';
import { endSwap, sumKept, swapTables } from './database/swap-tables.js';
import { type Loaded, TableLoader } from './database/table-loader.js';
import { withReconnect } from './database/with-reconnect.js';
import { type WrittenSince, writtenSince } from './database/written-since.js';
import type { Deliverer } from './deliverer.js';
import { provisionDatabase } from './provision.js';

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
  /** How far an interrupted run of the same dump has come. */
  readonly reached: 'nothing' | 'rows changed' | 'swapped';
}

/** What is ready to be put into its place, in the move folder too, so that an interrupted run can be resumed. */
interface Ready {
  readonly dump: string;
  /** The tables that were loaded as a whole; undefined where none was. */
  readonly loaded: Loaded | undefined;
  /** How many tables stay as they are, and of how many only rows change. */
  readonly same: number;
  readonly changing: readonly string[];
  readonly edits: readonly EditDone[];
  readonly tables: LoadedDatabase['tables'];
  readonly programs: LoadedDatabase['programs'];
}

/** Where that is. */
const readyFile = 'results/staged.json';
/** How often, and at what distance in milliseconds, one looks whether others still ask the database. */
const mostLooks = 20;
const betweenLooks = 250;

/**
 * Delivers the rewritten dump: loads it beside the tables that are there, verifies it by reading it back, sets the site's data
 * right, and puts all tables in their places at once. Of a later delivery only what changed is put there.
 */
export class DatabaseDeliverer implements Deliverer {
  private readonly run: StepRun;
  private readonly family: Family;
  private readonly manifest: CrateManifest;
  private readonly part: CratePart;
  /** Whether what an earlier delivery put there is kept: somebody has written at the new site since. */
  keepsReplaced = false;
  private made: readonly string[] = [];
  private plan: Plan | undefined;
  private loader: TableLoader | undefined;
  private ready: Ready | undefined;
  private rows: readonly RowsToChange[] = [];
  private keptAs: string | undefined;
  private changedRows = 0;
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

  /** The same, and nothing is tried out there. */
  async changesSeen(): Promise<WrittenSince | undefined> {
    return (await this.working(database => this.planAt(database, { tries: false }))).written;
  }

  /** Whether putting it in place changes anything. */
  get changesAnything(): boolean {
    const { ready, plan } = this;
    return plan?.obstacle !== undefined || ready?.loaded !== undefined || (ready?.changing.length ?? 0) > 0;
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
      const { replacement, obstacle, reached } = this.plan;
      if (reached !== 'nothing') {
        await this.resume(database);
        return;
      }
      const why = await database.use(connection =>
        replacementFindings(this.run.move, database, connection, replacement, this.incoming),
      );
      findings.add(...why);
      if (findings.stops) return;
      if (obstacle !== undefined) findings.add(noSwapFinding(database, obstacle));
      else await this.makeReady(database, this.plan, findings);
    });
  }

  async publish(findings: FindingLog): Promise<readonly string[]> {
    const { plan } = this;
    if (!plan) return [];
    await this.working(async database => {
      if (plan.obstacle === undefined) await this.swapAt(database, plan, findings);
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
    const { plan, ready } = this;
    if (!plan) return undefined;
    const database = newDatabaseOf(this.run.move)?.text ?? '';
    const brief = { database, server: plan.server.version, made: this.made };
    if (!ready || !this.isDelivered) return { ...nothingLoaded, ...brief };
    const { loaded, tables, programs, edits, same, changing } = ready;
    return {
      ...brief,
      how: plan.obstacle === undefined ? 'swapped' : 'in place',
      rows: tables.reduce((sum, { rows }) => sum + rows, 0),
      tables,
      programs,
      loaded: loaded?.tables.length ?? 0,
      same,
      changing: changing.length,
      changedRows: this.changedRows,
      dropped: plan.replacement.replaced.map(({ name }) => name),
      keepsake: this.keptAs,
      fitted: loaded?.fitted ?? {},
      edits: edits.filter(({ rows }) => rows > 0),
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

  private planAt(database: DatabaseEnd, { tries } = { tries: true }): Promise<Plan> {
    const { run, family, incoming } = this;
    return withReconnect(run, database, () =>
      database.use(async connection => {
        const [server, seen, missing] = await Promise.all([
          serverSeen(run.move, connection),
          replacementIn(run.move, connection, incoming),
          tries ? missingAbilities(run.move, connection) : [],
        ]);
        const notes = [doneNoteName(incoming.prefix), loadNoteName(incoming.prefix)];
        const hasNote = seen.there.some(({ name }) => notes.includes(name));
        const reached = hasNote ? await this.reachedBefore(connection) : 'nothing';
        const replacement = hasNote ? await replacementIn(run.move, connection, incoming) : seen;
        const folder = new StateFolder(run.move, 'delivered');
        const state = await folder.read();
        const { loaded } = await ledgerOf(run.move);
        const isOurs = state?.database === database.id && loaded.has(database.id) && reached === 'nothing';
        const written = isOurs
          ? await writtenSince(run, connection, { family, prefix: incoming.prefix, state, folder })
          : undefined;
        const obstacle = swapObstacle(run.move, replacement, missing);
        const isFirst = state?.database !== database.id;
        return { server, replacement, obstacle, written, isFirst, reached };
      }),
    );
  }

  /**
   * How far an interrupted run has come that was beyond the point of no return. Where it had another dump, what it put there was
   * delivered, and is what is replaced now.
   */
  private async reachedBefore(connection: DatabaseConnection): Promise<Plan['reached']> {
    const { prefix } = this.incoming;
    const [swapped, loading] = await Promise.all(
      [doneNoteName(prefix), loadNoteName(prefix)].map(note => connection.loadPosition(note)),
    );
    const beyond = swapped ?? (loading && loading.done < 0 ? loading : undefined);
    if (!beyond) return 'nothing';
    if (beyond.dump === this.part.sha256) return swapped ? 'swapped' : 'rows changed';
    const staged = new StateFolder(this.run.move, 'staged');
    if ((await staged.read())?.dump === beyond.dump)
      await staged.replace(new StateFolder(this.run.move, 'delivered'));
    await endSwap(connection, prefix);
    return 'nothing';
  }

  /** Resumes after what an interrupted run had made ready and has begun to put into its place. */
  private async resume(database: DatabaseEnd): Promise<void> {
    const text = await this.run.move.folder.read(readyFile);
    const ready = text === undefined ? undefined : (JSON.parse(text) as Ready);
    this.ready = ready?.dump === this.part.sha256 ? ready : undefined;
    if (!ready?.loaded) return;
    // Views and programs may be missing still, and are in the dump.
    const only =
      ready.changing.length + ready.same > 0 ? ready.loaded.tables.map(({ table }) => table) : undefined;
    this.loader = this.loaderFor(database, only);
    await this.loader.loadAll();
  }

  private loaderFor(database: DatabaseEnd, only: readonly string[] | undefined, beside = true): TableLoader {
    const { run, part, incoming } = this;
    const place = { server: this.plan!.server, beside, only };
    return new TableLoader(run, database, { part, incoming, place });
  }

  /** Loads what must be loaded beside its place, and computes which rows of other tables change. */
  private async makeReady(database: DatabaseEnd, plan: Plan, findings: FindingLog): Promise<void> {
    const { run, part } = this;
    const edits = editsWanted(run.move, this.family, this.incoming.prefix, this.incoming.names).map(
      alwaysTheSame,
    );
    const rowPlan = await this.rowPlan(database, plan, edits);
    const isPartial = rowPlan !== undefined && rowPlan.same.length + rowPlan.rows.length > 0;
    const only = isPartial ? rowPlan.whole : undefined;
    const loader = this.loaderFor(database, only);
    const needsLoad = !isPartial || rowPlan.whole.length > 0;
    if (needsLoad) this.loader = loader;
    else await loader.begin();
    const loaded = needsLoad ? await loader.load(findings) : undefined;
    const done = new EditsDone();
    if (rowPlan && isPartial) {
      const { rows, changes } = await rowsOfPlan(run, database, rowPlan, edits);
      this.rows = rows;
      for (const change of changes) done.add(change);
      await noteHeld(run, done.held);
      await noteRowsState(run, database, part.sha256, rowPlan, loaded?.state);
    }
    const proofs = isPartial ? proofsOf(rowPlan, this.manifest, run.move, this.family) : [];
    this.ready = {
      dump: part.sha256,
      loaded,
      same: isPartial ? rowPlan.same.length : 0,
      changing: isPartial ? rowPlan.rows.map(({ table }) => table) : [],
      edits: [...(loaded?.edits ?? []), ...done.all()],
      tables: [...(loaded?.tables ?? []), ...proofs].sort((a, b) => (a.table < b.table ? -1 : 1)),
      programs: loaded?.proof.programs ?? rowPlan?.dump.programs ?? [],
    };
    await run.move.folder.write(readyFile, JSON.stringify(this.ready));
  }

  /** Which rows a later delivery changes; undefined where all is loaded. */
  private async rowPlan(
    database: DatabaseEnd,
    { written, replacement, isFirst }: Plan,
    edits: readonly DataEdit[],
  ): Promise<RowPlan | undefined> {
    const { run } = this;
    if (isFirst || !written || run.again) return undefined;
    const folder = new StateFolder(run.move, 'delivered');
    const state = await folder.read();
    if (!state) return undefined;
    const { names } = this.incoming;
    return planRows(run, database, { state, folder, written, replacement, edits, names });
  }

  /** Puts what is ready in its place. What nobody but a delivery of ours has made need not be kept. */
  private async swapAt(database: DatabaseEnd, plan: Plan, findings: FindingLog): Promise<void> {
    const { run, incoming, ready } = this;
    const { written, reached } = plan;
    const isSpare = written !== undefined && !this.keepsReplaced;
    const number = (await ledgerOf(run.move)).numberOfDelivery;
    const staged = new StateFolder(run.move, 'staged');
    const note = loadNoteName(incoming.prefix);
    if (reached === 'nothing' && this.rows.length > 0) {
      const { speaks } = (await staged.read())!;
      const count = this.rows.reduce((sum, { tuples }) => sum + tuples.length, 0);
      const wish = { step: 'deliver', by: 'delivery', number, count, isSpare, note, speaks } as const;
      await withReconnect(run, database, () => putRows(run, database, this.rows.map(rowsToPut), wish));
      this.changedRows = count;
    }
    const staging = this.loader?.staging;
    if (!staging) return;
    const keepsake = { number, by: byOf(plan.isFirst), isSpare };
    const loaded = new Set((ready?.loaded?.tables ?? []).map(({ table }) => table));
    const isPartial = (ready?.changing.length ?? 0) + (ready?.same ?? 0) > 0;
    const swap = {
      staging,
      incoming: isPartial
        ? { ...incoming, names: incoming.names.filter(name => loaded.has(name)) }
        : incoming,
      replacement: isPartial
        ? { ...plan.replacement, replaced: plan.replacement.replaced.filter(({ name }) => loaded.has(name)) }
        : plan.replacement,
      server: plan.server,
      keepsake,
    };
    const denied = await withReconnect(run, database, () =>
      database.use(connection => swapTables(run, database, connection, swap)),
    );
    findings.add(...deniedFindings(denied, database.text));
    await this.keepOrDrop(database, number);
  }

  /** Drops a keepsake of what an earlier delivery had put there and nobody has changed since. */
  private async keepOrDrop(database: DatabaseEnd, number: number): Promise<void> {
    const { run } = this;
    const kept = (await ledgerOf(run.move)).keepsakes
      .get(number)
      ?.data.find(one => one.kind === 'tables kept' && one.database === database.id);
    if (kept?.kind !== 'tables kept') return;
    if (!kept.isSpare) {
      if (kept.tables.length > 0) this.keptAs = `the database ${database.name} (keepsake ${number})`;
      await withReconnect(run, database, () =>
        database.use(connection => sumKept(run, 'deliver', connection, kept)),
      );
      return;
    }
    await withReconnect(run, database, () =>
      database.use(connection => connection.drop(kept.tables.map(({ as }) => ({ kind: 'table', name: as })))),
    );
    await noteDeed(run, 'deliver', { kind: 'tables dropped', number, database: database.id });
  }

  /** Replaces the tables where they are: they are kept in a dump first. */
  private async replaceAt(database: DatabaseEnd, plan: Plan, findings: FindingLog): Promise<void> {
    const { run, part, incoming } = this;
    const number = (await ledgerOf(run.move)).numberOfDelivery;
    await withReconnect(run, database, () =>
      database.use(async connection => {
        if ((await connection.loadPosition(loadNoteName(incoming.prefix)))?.dump === part.sha256) return;
        const isOurs = !plan.isFirst && plan.written !== undefined && !this.keepsReplaced;
        const { replaced } = plan.replacement;
        if (isOurs) await connection.drop(replaced);
        else await keepInDump(run, database, connection, replaced, { number, by: byOf(plan.isFirst) });
      }),
    );
    const loaded = await this.loaderFor(database, undefined, false).load(findings);
    const { tables, edits, proof } = loaded;
    this.ready = {
      dump: part.sha256,
      loaded,
      same: 0,
      changing: [],
      edits,
      tables,
      programs: proof.programs,
    };
    const kept = (await ledgerOf(run.move)).keepsakes.get(number)?.data.find(one => one.kind === 'dump kept');
    if (kept?.kind === 'dump kept') this.keptAs = run.move.folder.at(kept.file);
  }
}

/** The same edit, which makes the same of the same value also where a random salt is in it. */
function alwaysTheSame(edit: DataEdit): DataEdit {
  const { change } = edit;
  if ('remove' in change) return edit;
  const made = new Map<ByteString, ByteString | undefined>();
  const to = (before: ByteString) => {
    if (!made.has(before)) made.set(before, change.to(before));
    return made.get(before);
  };
  return { ...edit, change: { ...change, to } };
}

function deniedFindings(denied: readonly LaterStatement[], place: string): Finding[] {
  const names = denied.flatMap(({ sql }) => {
    const subject = subjectOf(sql);
    return subject ? [`${subject.kind} ${subject.names.map(textOf).join('.')}`] : [];
  });
  if (names.length === 0) return [];
  return [
    finding({
      level: 'warn',
      code: 'programs-not-made',
      place,
      what: `This account may not make ${names.join(', ')}`,
      remedy:
        'Ask the host to make them, or to allow it (log_bin_trust_function_creators = 1), then deliver with --again',
    }),
  ];
}

function byOf(isFirst: boolean): KeptBy {
  return isFirst ? 'first delivery' : 'delivery';
}

const nothingLoaded = {
  how: 'not loaded',
  rows: 0,
  tables: [],
  programs: [],
  loaded: 0,
  same: 0,
  changing: 0,
  changedRows: 0,
  dropped: [],
  keepsake: undefined,
  fitted: {},
  edits: [],
} as const;
