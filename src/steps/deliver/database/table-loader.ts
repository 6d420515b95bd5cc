import { bytesOfText, textOf } from '../../../core/bytes.js';
import { doneNoteName, loadNoteName } from '../../../core/database/reserved-names.js';
import { Staging } from '../../../core/database/staging.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { Allowed } from '../../../core/sql/judge/judge.js';
import type { DatabaseEnd, LoadDone, LoadWarning, SeenServer } from '../../../ends/database/database-end.js';
import { longestFor } from '../../../ends/database/server/load/load.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { CratePart } from '../../../ends/move-folder/crate-part.js';
import { leftOutFindings } from '../../move/left-out.js';
import type { IncomingTables } from '../../move/replacement.js';
import { type FindingLog, noteDeed, type StepRun } from '../../move/step.js';
import type { DeliveredState } from './delivered-state.js';
import { type EditDone, editSite } from './site-data.js';
import {
  forgetProof,
  type LoadedNames,
  noteState,
  type Proof,
  proofFindings,
  type TableProof,
  verifyLoad,
} from './verify.js';
import { withReconnect } from './with-reconnect.js';

/** What a load and its verification gave. */
export interface Loaded {
  readonly proof: Proof;
  readonly tables: readonly TableProof[];
  readonly edits: readonly EditDone[];
  readonly fitted: Readonly<Record<string, number>>;
  readonly state: DeliveredState;
}

/** Where tables are loaded: beside those whose places they take, or in their places; all of a dump, or some. */
export interface LoadPlace {
  readonly server: SeenServer;
  readonly beside: boolean;
  /** The tables; all that come in, where they are not named. */
  readonly only?: readonly string[] | undefined;
}

/** Loads the tables of the rewritten dump, verifies them by reading them back, and sets the site's data right. */
export class TableLoader {
  /** How they are called while they wait; undefined where they are loaded in their places. */
  staging: Staging | undefined;
  private readonly run: StepRun;
  private readonly database: DatabaseEnd;
  private readonly part: CratePart;
  private readonly incoming: IncomingTables;
  private readonly place: LoadPlace;

  constructor(
    run: StepRun,
    database: DatabaseEnd,
    {
      part,
      incoming,
      place,
    }: { readonly part: CratePart; readonly incoming: IncomingTables; readonly place: LoadPlace },
  ) {
    this.run = run;
    this.database = database;
    this.part = part;
    this.incoming = incoming;
    this.place = place;
  }

  async load(findings: FindingLog): Promise<Loaded> {
    const { run, database, part, names } = this;
    await withReconnect(run, database, () => this.begin());
    const load = await this.loadAll();
    const proof = await withReconnect(run, database, () => verifyLoad(run, database, part, names));
    const good = new Set(proof.tables.filter(one => one.equal && one.compared).map(({ table }) => table));
    findings.add(
      ...warningFindings(this.finalWarnings(load), good, database),
      ...(await leftOutFindings(run.move.crate.at(movedDump), load.leftOut)),
      ...proofFindings(proof.tables, database),
    );
    const { family, prefix } = this.incoming;
    const edits = await withReconnect(run, database, () =>
      database.use(connection => editSite(run, family, connection, prefix, names)),
    );
    const edited = new Set(edits.map(({ table }) => table));
    const noted = await withReconnect(run, database, () => noteState(run, database, proof, names, edited));
    return { proof, ...noted, edits, fitted: Object.fromEntries(load.fitted) };
  }

  /** The names of the tables while they are made ready. */
  private get names(): LoadedNames {
    return {
      tables: this.place.only ?? this.incoming.names,
      of: table => this.staging?.of(table) ?? table,
    };
  }

  /** Makes room for a load, unless one of the same dump has begun already. */
  begin(): Promise<void> {
    const { run, database, part, incoming } = this;
    return database.use(async connection => {
      const note = loadNoteName(incoming.prefix);
      const there = await connection.tables();
      for (const name of [note, doneNoteName(incoming.prefix)]) {
        const isThere = there.some(table => table.name === name);
        if (isThere && (await connection.loadPosition(name))?.dump === part.sha256) return;
      }
      await noteDeed(run, 'deliver', { kind: 'loaded', database: database.id, tables: incoming.names });
      await forgetProof(run);
      // What another load has left waiting.
      const staging = new Staging(incoming.names, []);
      const waiting = new Set(incoming.names.map(name => staging.of(name)));
      const left = there.filter(({ name }) => waiting.has(name));
      await Promise.all([connection.drop(left), connection.beginLoad(note, part.sha256)]);
    });
  }

  /** Runs every statement of the dump, resuming where an earlier try or run was. */
  loadAll(): Promise<LoadDone> {
    const { run, database, part, incoming } = this;
    const { server, beside, only } = this.place;
    const note = loadNoteName(incoming.prefix);
    let limit = longestFor(server);
    let reached = -1;
    return withReconnect(run, database, progressed =>
      database.use(async connection => {
        // The first mostly is not there, and what fails comes last.
        const [foreignKeys, loading, done] = await Promise.all([
          connection.foreignKeys(),
          connection.loadPosition(note),
          connection.loadPosition(doneNoteName(incoming.prefix)),
        ]);
        const position = done ?? loading ?? (await connection.beginLoad(note, part.sha256));
        const taken = foreignKeys.map(({ name }) => name);
        this.staging = beside ? new Staging(only ?? incoming.names, taken, only !== undefined) : undefined;
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
            refuses: named => foreignTo(incoming, named),
          });
        } catch (error) {
          // A statement may still run, and closing the connection would wait for it.
          connection.destroy();
          throw error;
        }
      }),
    );
  }

  /** What the server warned of, by the names that the tables are to have. */
  private finalWarnings({ warnings }: LoadDone): LoadWarning[] {
    return warnings.map(one => ({
      ...one,
      table: bytesOfText(this.staging?.final(textOf(one.table)) ?? textOf(one.table)),
    }));
  }
}

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

/** Why a statement may not be run at the new end: it names what is not the site's. */
function foreignTo(
  { names, prefix }: IncomingTables,
  { about, isView, uses, refersTo }: Allowed,
): string | undefined {
  const isIncoming = (name: string) => names.includes(textOf(name));
  const isOwn = (name: string) => isIncoming(name) || textOf(name).startsWith(prefix);
  const foreign = [
    ...about.filter(name => !(isView ? isOwn(name) : isIncoming(name))),
    ...[...uses, ...refersTo].filter(name => !isOwn(name)),
  ];
  return foreign[0] === undefined
    ? undefined
    : `it names ${textOf(foreign[0])}, which is not a table of the site`;
}
