import { asBytes, type ByteString, bytesOfText, textOf } from '../../../core/bytes.js';
import { type Fitted, fitStatement, type ServerHas } from '../../../core/database/fitting.js';
import type { Staging } from '../../../core/database/staging.js';
import type { Workbench } from '../../../core/kernels/workbench.js';
import {
  type EncodedSql,
  encodedSql,
  identifier,
  literal,
  literalOfBytes,
  quoteName,
  sql,
} from '../../../core/sql/encoded-sql.js';
import type { RefusedStatement } from '../../../core/sql/scanner.js';
import { type DumpStatement, DumpStatements } from '../../../core/sql/statements.js';
import type { LoadDone, LoadOptions, LoadPosition, LoadWarning, SeenServer } from '../database-end.js';
import { readDump } from '../dump/reader.js';
import { isLocked, whileLocked } from './locks.js';
import type { DatabaseSession, ServerSaid } from './session.js';

/** Bytes of one statement as the dump is cut; the numbers of statements depend on it. */
const longestStatement = 512 * 1024;
/** Bytes of statements that are done or undone together. */
const batchBytes = 2 * 1024 * 1024;
/** Bytes of statements that may wait for the server. */
const queueBytes = 4 * 1024 * 1024;

/** Errors that say that a statement of structure was done already. */
const doneAlready = new Set([1050, 1051, 1060, 1061, 1068, 1091, 1304, 1305, 1359, 1360, 1537, 1826, 4031]);

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
  private queue: { readonly statement: DumpStatement; readonly number: number }[] = [];
  private queued = 0;
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
    this.resumedAt = position.done;
    this.has = options.has;
    this.limit = options.limit;
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
    await this.session.run(sql`SET NAMES utf8mb4`);
    await this.session.run(
      sql`SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0, unique_checks = 0, net_read_timeout = 28800, wait_timeout = 28800`,
    );
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
  }

  /** Waits while more statements are read than the server has done. */
  async settle(): Promise<void> {
    if (this.queued > queueBytes && !this.failure) await new Promise<void>(room => (this.whenRoom = room));
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
    this.queue.push({ statement: { ...statement, sql }, number });
    this.queued += statement.sql.length;
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

  private async work(): Promise<void> {
    try {
      // What was taken in the same moment comes along.
      await Promise.resolve();
      while (this.queue.length > 0 && !this.failure) {
        this.signal.throwIfAborted();
        const { statement, number } = this.queue[0]!;
        if (putsRows(statement)) await this.workBatch();
        else {
          this.queue.shift();
          await this.workAlone(statement, number);
          this.queued -= statement.sql.length;
        }
        if (this.queued < queueBytes / 2) this.whenRoom?.();
      }
    } catch (error) {
      this.failure ??= error;
      this.queue = [];
    } finally {
      this.running = undefined;
      this.whenRoom?.();
    }
  }

  /** A statement that a server commits on its own, or that holds for the session. */
  private async workAlone(statement: DumpStatement, number: number): Promise<void> {
    const { kind } = statement;
    try {
      await this.session.run(encodedSql(fitStatement(statement.sql, this.has, this.fitted)));
    } catch (error) {
      const isFirst = number > this.resumedAt && this.position.done === this.resumedAt;
      // What a dump says of itself may need it no more.
      if (kind === 'session' && !isLocked(error) && isUnknownSetting(error)) return;
      if (!isFirst || !doneAlready.has((error as ServerSaid).errno ?? 0))
        throw inStatement(error, statement.sql);
    }
    if (kind === 'session' || isRepeatable(statement.sql)) return;
    // Where rows come next, it is noted at once which table takes them.
    const next = this.queue[0]?.statement;
    const table = next && putsRows(next) ? next.table : this.position.table;
    this.position = { ...this.position, done: number, table };
    await this.session.run(notes(this.noteTable, this.position));
  }

  /** Statements that put rows into one table, in one transaction with the note of how far the load is. */
  private async workBatch(): Promise<void> {
    const batch: typeof this.queue = [];
    let bytes = 0;
    const { table } = this.queue[0]!.statement;
    while (this.queue.length > 0 && bytes < batchBytes) {
      const { statement } = this.queue[0]!;
      if (!putsRows(statement) || statement.table !== table) break;
      batch.push(this.queue.shift()!);
      bytes += statement.sql.length;
    }
    if (table !== this.position.table) {
      // A table without transactions takes rows at once: it is noted first that it may have.
      this.position = { ...this.position, table };
      await this.session.run(notes(this.noteTable, this.position));
    }
    await whileLocked(this.session, () => this.doBatch(batch));
    this.queued -= bytes;
  }

  private async doBatch(batch: typeof this.queue): Promise<void> {
    const { table } = batch[0]!.statement;
    await this.session.run(sql`START TRANSACTION`);
    for (const { statement } of batch)
      for (const piece of this.pieces(statement)) await this.put(piece, table);
    const position = { ...this.position, done: Math.max(this.position.done, batch.at(-1)!.number) };
    await this.session.run(notes(this.noteTable, position));
    await this.session.run(sql`COMMIT`);
    this.position = position;
  }

  private async put(statement: ByteString, table: string): Promise<void> {
    try {
      const { warnings } = await this.session.run(encodedSql(statement));
      if (warnings > 0) await this.note(table);
    } catch (error) {
      throw inStatement(error, statement);
    }
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

  private async note(table: string): Promise<void> {
    for (const [level, code, message] of await this.session.rows(sql`SHOW WARNINGS`)) {
      if (level === 'Note') continue;
      const known = this.warnings.find(one => one.table === table && one.code === Number(code));
      if (known) known.count++;
      else if (this.warnings.length < 100)
        this.warnings.push({ table, code: Number(code), message: message ?? '', count: 1 });
    }
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

/** How far a load of some dump has come; undefined where none has begun. @param note the table that says so */
export async function positionOf(session: DatabaseSession, note: string): Promise<LoadPosition | undefined> {
  const [there] = await session.rows(
    sql`SELECT 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ${literal(note)}`,
  );
  if (!there) return undefined;
  const [row] = await session.rows(sql`SELECT dump, done, table_name FROM ${identifier(note)}`);
  if (!row) return undefined;
  const [dump, done, table] = row;
  return { note, dump: dump ?? '', done: Number(done), table: bytesOfText(table ?? '') };
}

/** Notes that a load begins. @param dump its SHA-256 */
export async function beginLoad(session: DatabaseSession, note: string, dump: string): Promise<LoadPosition> {
  await endLoad(session, note);
  const table = identifier(note);
  await session.run(
    sql`CREATE TABLE ${table} (id TINYINT NOT NULL PRIMARY KEY, dump CHAR(64) NOT NULL, done BIGINT NOT NULL, table_name VARCHAR(64) NOT NULL) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4`,
  );
  await session.run(sql`INSERT INTO ${table} VALUES (1, ${literal(dump)}, 0, '')`);
  return { note, dump, done: 0, table: '' };
}

/** Removes the note. */
export async function endLoad(session: DatabaseSession, note: string): Promise<void> {
  await session.run(sql`DROP TABLE IF EXISTS ${identifier(note)}`);
}

function notes(note: EncodedSql, { done, table }: LoadPosition): EncodedSql {
  return sql`UPDATE ${note} SET done = ${done}, table_name = ${literalOfBytes(asBytes(table))}`;
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
