import { setTimeout } from 'node:timers/promises';
import { asBytes, type ByteString, textOf } from '../../../../core/bytes.js';
import { type Fitted, fitStatement, type ServerHas } from '../../../../core/database/fitting.js';
import { shownDatabase } from '../../../../core/database/place.js';
import type { Staging } from '../../../../core/database/staging.js';
import type { Workbench } from '../../../../core/kernels/workbench.js';
import {
  type EncodedSql,
  encodedSql,
  identifier,
  literalOfBytes,
  quoteName,
  sql,
} from '../../../../core/sql/encoded-sql.js';
import type { RefusedStatement } from '../../../../core/sql/scanner.js';
import { type DumpStatement, DumpStatements } from '../../../../core/sql/statements.js';
import type { LoadDone, LoadOptions, LoadPosition, LoadWarning, SeenServer } from '../../database-end.js';
import { readDump } from '../../dump/reader.js';
import { isLocked } from '../locks.js';
import { type ServerSaid, toDatabaseError } from '../session/errors.js';
import type { Statement, TakeRow } from '../session/sending.js';
import type { DatabaseSession } from '../session/session.js';
import { notes, positionOf, takeTurn } from './note.js';

/** Bytes of one statement as the dump is cut; the numbers of statements depend on it. */
const longestStatement = 512 * 1024;
/** Bytes of statements that are done or undone together. */
const batchBytes = 2 * 1024 * 1024;
/** Bytes of statements that may wait for the server. */
const queueBytes = 4 * 1024 * 1024;
/** Bytes of statements that go to the server together. */
const togetherBytes = 768 * 1024;
/** How often a transaction is repeated that meets a lock of others, and the first pause before that, in milliseconds. */
const mostLocked = 4;
const firstPause = 200;
/** Errors that say that a statement of structure was done already. */
const doneAlready = new Set([1050, 1051, 1060, 1061, 1068, 1091, 1304, 1305, 1359, 1360, 1537, 1826, 4031]);

/** One statement of a load, and what it is for. */
interface Act extends Statement {
  readonly does: 'set' | 'make' | 'begin' | 'put' | 'look' | 'note' | 'commit';
  /** The statement of the dump, for what is said of it. */
  readonly of?: ByteString;
  /** Which statement of the dump it belongs to. */
  readonly number: number;
  /** Bytes of the dump that are done with it. */
  readonly bytes: number;
  /** What it notes. */
  readonly position?: LoadPosition;
}

/**
 * Loads the statements of a dump over one connection: in transactions, each of which also notes how far the load is,
 * so that a load that is interrupted at any moment continues at the right statement. What can be retried is.
 */
class Load implements LoadDone {
  readonly fitted: Fitted = new Map();
  readonly warnings: LoadWarning[] = [];
  /** Statements that do more than fill the site's tables, and were not run. */
  readonly leftOut: RefusedStatement[] = [];
  private readonly bench: Workbench;
  private readonly session: DatabaseSession;
  private readonly has: ServerHas;
  private readonly limit: number;
  private readonly signal: AbortSignal;
  private readonly reader: DumpStatements;
  private readonly staging: Staging | undefined;
  private readonly noteTable: EncodedSql;
  private position: LoadPosition;
  /** A table without transactions whose rows are put in again. */
  private redo: string | undefined;
  private number = 0;
  private resumedAt: number;
  /** What waits for the server, in order. */
  private acts: Act[] = [];
  /** Bytes of statements that wait, or are not done for good. */
  private queued = 0;
  /** How far the load is when all that waits is done. */
  private planned: LoadPosition;
  /** A statement of structure that is not noted as done yet. */
  private owed: number | undefined;
  /** The transaction that rows are queued in. */
  private open: { readonly table: string; readonly number: number; readonly bytes: number } | undefined;
  /** What the transaction that the server is in has done. */
  private begun: Act[] | undefined;
  /** How often others held a lock in its way. */
  private locked = 0;
  private running: Promise<void> | undefined;
  private whenRoom: (() => void) | undefined;
  private failure: unknown;

  /**
   * @param position as `positionOf` gave it, or `beginLoad` made it
   * @param limit bytes of the longest statement that the server takes
   */
  constructor(
    session: DatabaseSession,
    position: LoadPosition,
    options: {
      bench: Workbench;
      has: ServerHas;
      limit: number;
      signal: AbortSignal;
      staging: Staging | undefined;
      refuses: LoadOptions['refuses'];
      note: string;
    },
  ) {
    this.session = session;
    this.position = position;
    this.planned = position;
    this.resumedAt = position.done;
    this.has = options.has;
    this.limit = Math.min(options.limit, session.mostTogether ?? options.limit);
    this.signal = options.signal;
    this.bench = options.bench;
    this.staging = options.staging;
    this.noteTable = identifier(options.note);
    this.reader = new DumpStatements(options.bench, longestStatement, statement => this.take(statement), {
      ...(options.staging && { rename: options.staging.rename }),
      ...(options.refuses && { refuses: options.refuses }),
      refused: statement => this.leftOut.push(statement),
    });
  }

  /** Readies the session, and what an interrupted load left of a table without transactions. */
  async begin(): Promise<void> {
    const { session, position } = this;
    const [, now] = await Promise.all([
      takeTurn(session, position.note),
      positionOf(session, position.note),
      session.runAll(
        sql`SET NAMES utf8mb4`,
        sql`SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0, unique_checks = 0, net_read_timeout = 28800, wait_timeout = 28800`,
      ),
    ]);
    // What an interrupted load had sent already may have been done since.
    if (now?.dump === position.dump) {
      this.position = now;
      this.planned = now;
      this.resumedAt = now.done;
    }
    const { table } = this.position;
    if (table === '') return;
    const engine = await this.session.value(
      sql`SELECT ENGINE FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ${literalOfBytes(asBytes(table))}`,
    );
    if (!engine || /^innodb$/i.test(engine)) return;
    // Nobody can say how much of the last statement such a table has taken.
    await this.session.run(sql`TRUNCATE TABLE ${encodedSql(quoteName(table))}`);
    this.redo = table;
  }

  /** @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer): void {
    this.reader.push(chunk);
  }

  finish(): void {
    this.reader.finish();
    this.endTransaction();
    this.queueOwedNote();
    this.running ??= this.work();
  }

  /** Waits while more statements are read than the server has done. */
  async settle(): Promise<void> {
    if (this.queued > queueBytes && this.running && !this.failure)
      await new Promise<void>(room => (this.whenRoom = room));
    if (this.failure) throw this.failure;
  }

  /** Waits for all. */
  async end(): Promise<void> {
    await this.running;
    if (this.failure) throw this.failure;
  }

  private take(statement: DumpStatement): void {
    const number = ++this.number;
    // After a statement that failed none may follow, or its rows would be skipped for good.
    if (statement.kind === 'own' || this.failure) return;
    const again = this.redo !== undefined && statement.table === this.redo;
    const isPast = number <= this.position.done && statement.kind !== 'session' && !again;
    // What is for later is gone through again by a load that is resumed.
    const sql = this.staged(statement);
    if (isPast || sql === undefined) return;
    if (putsRows(statement)) this.queueRows({ ...statement, sql }, number);
    else this.queueAlone({ ...statement, sql }, number);
    this.running ??= this.work();
  }

  /** A statement as it is run here; undefined where it is for later. */
  private staged({ kind, sql, table }: DumpStatement): ByteString | undefined {
    const { staging } = this;
    if (!staging) return sql;
    if (kind === 'rows' && !staging.takesRows(table)) return undefined;
    if (kind === 'session') staging.setting(sql);
    if (kind === 'structure') return staging.structure(sql);
    return kind === 'data' ? staging.data(sql) : sql;
  }

  private queueAct(act: Omit<Act, 'bytes'>, bytes = 0): void {
    this.acts.push({ ...act, bytes });
    this.queued += bytes;
  }

  /** Queues a statement that a server commits on its own, or that holds for the session. */
  private queueAlone(statement: DumpStatement, number: number): void {
    this.endTransaction();
    this.queueOwedNote();
    const isSetting = statement.kind === 'session';
    const fitted = encodedSql(fitStatement(statement.sql, this.has, this.fitted));
    const does = isSetting ? 'set' : 'make';
    this.queueAct({ does, sql: fitted, of: statement.sql, number }, statement.sql.length);
    // Where rows come next, it is noted at once which table takes them.
    if (!isSetting && !isRepeatable(statement.sql)) this.owed = number;
  }

  /** Queues a statement that puts rows into a table: in one transaction with those before it and the note of them. */
  private queueRows(statement: DumpStatement, number: number): void {
    const { table, sql: text } = statement;
    const weight = this.session.weightOf(text);
    const most = this.session.mostTogether ?? batchBytes + weight;
    if (this.open?.table !== table || this.open.bytes + weight > most) {
      this.endTransaction();
      // A table without transactions takes rows at once: it is noted first that it may have.
      const isNew = table !== this.planned.table;
      this.planned = { ...this.planned, table };
      if (!this.queueOwedNote() && isNew) this.queueNote(number);
      this.open = { table, number, bytes: 0 };
      this.queueAct({ does: 'begin', sql: sql`START TRANSACTION`, number });
    }
    for (const piece of this.pieces(statement)) {
      this.queueAct({ does: 'put', sql: encodedSql(piece), of: piece, number }, piece.length);
      this.queueAct({ does: 'look', sql: sql`SHOW WARNINGS`, take: this.warned(table), number });
    }
    this.open = { table, number, bytes: this.open.bytes + weight };
    if (this.open.bytes >= batchBytes) this.endTransaction();
  }

  private endTransaction(): void {
    if (!this.open) return;
    const { number } = this.open;
    this.open = undefined;
    this.planned = { ...this.planned, done: Math.max(this.planned.done, number) };
    this.queueNote(number);
    this.queueAct({ does: 'commit', sql: sql`COMMIT`, number });
  }

  private queueNote(number: number): void {
    const position = this.planned;
    this.queueAct({ does: 'note', sql: notes(this.noteTable, position), position, number });
  }

  /** @returns whether there was one */
  private queueOwedNote(): boolean {
    if (this.owed === undefined) return false;
    this.planned = { ...this.planned, done: this.owed };
    this.queueNote(this.owed);
    this.owed = undefined;
    return true;
  }

  private async work(): Promise<void> {
    try {
      // What was taken in the same moment comes along.
      await Promise.resolve();
      while (this.sendable > 0 && !this.failure) {
        this.signal.throwIfAborted();
        await this.runSome();
        if (this.queued < queueBytes / 2) this.whenRoom?.();
      }
    } catch (error) {
      const { place } = this.session.route;
      this.failure ??= toDatabaseError(error, `Loading the new database ${shownDatabase(place)}`);
      this.acts = [];
    } finally {
      this.running = undefined;
      this.whenRoom?.();
    }
  }

  /** How many acts may go to the server now: not a part of a transaction that the session would forget. */
  private get sendable(): number {
    const begin =
      this.session.lasts || !this.open ? -1 : this.acts.findLastIndex(({ does }) => does === 'begin');
    return begin < 0 ? this.acts.length : begin;
  }

  /** Runs as many acts as go to the server together, and decides about one that fails. */
  private async runSome(): Promise<void> {
    const some: Act[] = [];
    const most = this.session.mostTogether ?? togetherBytes;
    let bytes = 0;
    for (const act of this.acts.slice(0, this.sendable)) {
      bytes += this.session.weightOf(act.sql);
      if (some.length > 0 && bytes > most) break;
      some.push(act);
    }
    // Where a transaction ends with what goes together, it is kept whole.
    const end = some.findLastIndex(({ does }) => does === 'commit');
    if (!this.session.lasts && end >= 0) some.length = end + 1;
    const { effects, failed } = await this.session.together(some);
    for (const act of this.acts.splice(0, effects.length)) this.did(act);
    if (failed) await this.settleFailed(failed.error);
  }

  private did(act: Act): void {
    if (act.does === 'begin') this.begun = [];
    this.begun?.push(act);
    if (this.begun && act.does !== 'commit') return;
    for (const { position, bytes } of this.begun ?? [act]) {
      this.queued -= bytes;
      this.position = position ?? this.position;
    }
    this.begun = undefined;
    this.locked = 0;
  }

  /** Decides about the first act, which failed: it may not matter, or be done again when others hold a lock no more. */
  private async settleFailed(error: unknown): Promise<void> {
    const act = this.acts[0]!;
    if (isLocked(error) && (this.begun || act.does === 'note') && this.locked < mostLocked) {
      if (this.begun) await this.session.run(sql`ROLLBACK`);
      await setTimeout(firstPause * 1.5 ** this.locked++);
      this.acts.unshift(...(this.begun ?? []));
      this.begun = undefined;
    } else if (this.mayFail(act, error)) {
      this.acts.shift();
      this.did(act);
    } else throw act.of ? inStatement(error, act.of) : error;
  }

  private mayFail({ does, number }: Act, error: unknown): boolean {
    // What a dump says of itself may need it no more.
    if (does === 'set') return !isLocked(error) && isUnknownSetting(error);
    const isFirst = number > this.resumedAt && this.position.done === this.resumedAt;
    return does === 'make' && isFirst && doneAlready.has((error as ServerSaid).errno ?? 0);
  }

  /** A statement, in several where it is longer than the server takes. */
  private pieces(statement: DumpStatement): ByteString[] {
    if (statement.sql.length <= this.limit || statement.kind !== 'rows') return [statement.sql];
    const pieces: ByteString[] = [];
    const cutter = new DumpStatements(this.bench, this.limit / 2, ({ sql }) => pieces.push(sql));
    cutter.push(Buffer.from(`${statement.sql};\n`, 'latin1'));
    cutter.finish();
    return pieces;
  }

  /** Takes what the server warns of when it has taken rows. */
  private warned(table: string): TakeRow {
    return cells => {
      const [level, code, message] = cells.map(cell => cell?.toString('utf8') ?? '');
      if (level === 'Note') return;
      const known = this.warnings.find(one => one.table === table && one.code === Number(code));
      if (known) known.count++;
      else if (this.warnings.length < 100)
        this.warnings.push({ table, code: Number(code), message: message ?? '', count: 1 });
    };
  }
}

/** Loads a dump from its first statement, or from where an earlier load of the same was interrupted. */
export async function loadDump(
  session: DatabaseSession,
  file: string,
  position: LoadPosition,
  { bench, server, signal, limit, progress, staging, refuses }: LoadOptions,
): Promise<LoadDone> {
  const lower = (names: readonly string[]) => new Set(names.map(name => name.toLowerCase()));
  const load = new Load(session, position, {
    bench,
    has: { charsets: lower(server.charsets), collations: lower(server.collations) },
    limit: limit ?? longestFor(server),
    signal,
    staging,
    refuses,
    note: position.note,
  });
  await load.begin();
  await readDump(bench, file, load, {
    signal,
    ...(progress ? { progress } : {}),
    after: () => load.settle(),
  });
  await load.end();
  return load;
}

/** Bytes of the longest statement that a server takes, with room for what goes around it. */
export function longestFor({ packet }: SeenServer): number {
  return Math.max(16 * 1024, packet - 4096);
}

/** A statement that a resumed load may run again: what it takes away was not put there since. */
function isRepeatable(statement: ByteString): boolean {
  return /^DROP TABLE IF EXISTS\b/i.test(statement);
}

function putsRows({ kind }: DumpStatement): boolean {
  return kind === 'rows' || kind === 'data';
}

/** A setting that this server does not know, or lets nobody change. */
function isUnknownSetting(error: unknown): boolean {
  return [1193, 1227, 1231, 1238, 1115, 1273].includes((error as ServerSaid).errno ?? 0);
}

/** The server's error with the statement's beginning put to it. */
function inStatement(error: unknown, sql: ByteString): unknown {
  const said = error as ServerSaid & { sqlMessage?: string };
  if (typeof said.sqlMessage === 'string' && !said.sqlMessage.includes(' [in '))
    said.sqlMessage += ` [in ${textOf(headOf(sql))}…]`;
  return error;
}

/** How a statement begins, without any value: in those for users, and in rows, that may be a password. */
function headOf(sql: ByteString): ByteString {
  return asBytes(/^[^'"(]{0,60}/.exec(sql)![0].replace(/\s+/g, ' ').trim());
}
