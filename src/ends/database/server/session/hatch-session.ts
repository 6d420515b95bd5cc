import { type DatabasePlace, shownDatabase } from '../../../../core/database/place.js';
import type { HatchAnswer } from '../../../../core/hatch/exchange.js';
import { TableParts } from '../../../../core/hatch/reading.js';
import { type HatchStatement, lastRow, readRows, statementBytes } from '../../../../core/hatch/rows.js';
import { changes, SessionState } from '../../../../core/hatch/session-state.js';
import type { Column } from '../../../../core/sql/column.js';
import { type EncodedSql, sql } from '../../../../core/sql/encoded-sql.js';
import { type Hatch, HatchRefusal, HatchSilent } from '../../../hatch/hatch.js';
import { columnsOf, keysOf, tablesOf } from '../catalog.js';
import { connectionError } from './errors.js';
import {
  type Asked,
  type Effect,
  Sending,
  type Statement,
  type StatementLine,
  type TableReading,
  type TakeRow,
  type TogetherDone,
} from './sending.js';
import { type DatabaseRoute, DatabaseSession } from './session.js';

/** Every session begins with this, as one over the protocol of the servers does. */
const beginning = sql`SET NAMES utf8mb4 COLLATE utf8mb4_unicode_ci`;
/** A table with more bytes is read in parts. */
const wholeBytes = 2 * 1024 * 1024;
const answerBytes = 8 * 1024 * 1024;
/** How much of an answer is asked for: what is not taken is read in vain. */
const filled = 0.85;
/** Rows that are asked for in a part of a table. */
const mostRows = 500_000;
/** Room for settings in a request, in bytes. */
const room = 16 * 1024;
const leastPace = 1 / 8;
/** Bytes of a row of which nothing is known. */
const unknownRow = 1024;

/** What is known of a table before it is read. */
interface Known {
  readonly rows: number;
  readonly bytes: number;
  readonly columns: readonly Column[];
  readonly key: readonly string[] | undefined;
}

/**
 * A session through a hatch. Each request is a connection of its own there, so what the session has set, locked and begun is
 * said again with each: see `SessionState`.
 */
export class HatchSession extends DatabaseSession {
  readonly route: DatabaseRoute & { readonly through: Hatch };
  readonly canBeReset = true;
  override readonly lasts = false;
  isOver = false;
  private readonly line: HatchLine;
  private readonly sending: Sending;

  private constructor(place: DatabasePlace, hatch: Hatch) {
    super();
    this.route = { place, through: hatch };
    this.line = new HatchLine(place, hatch);
    this.sending = new Sending(this.line);
  }

  static async open(place: DatabasePlace, hatch: Hatch): Promise<HatchSession> {
    const session = new HatchSession(place, hatch);
    try {
      await session.run(sql`DO 0`);
    } catch (error) {
      throw connectionError(error, `Connecting to the database ${shownDatabase(place)}`);
    }
    return session;
  }

  override get mostTogether(): number {
    return this.line.bytesAtOnce;
  }

  override get moments(): number {
    return Math.max(1, this.line.readings);
  }

  override weightOf(text: string): number {
    return this.route.through.weightOf(text);
  }

  /** The connections of requests that are over are no more. */
  get number(): number {
    return 0;
  }

  async each(statement: EncodedSql, take: TakeRow, reading?: TableReading): Promise<void> {
    await this.sending.ask({ sql: statement, take, reading });
  }

  run(statement: EncodedSql): Promise<Effect> {
    return this.sending.ask({ sql: statement });
  }

  together(statements: readonly Statement[]): Promise<TogetherDone> {
    return this.sending.together(statements);
  }

  beginAgain(): void {
    this.line.forget();
  }

  async reset(): Promise<boolean> {
    this.line.forget();
    return true;
  }

  pause(): void {
    this.line.pause();
  }

  resume(): void {
    this.line.resume();
  }

  async close(): Promise<void> {
    this.isOver = true;
  }

  destroy(): void {
    this.isOver = true;
    this.line.isOver = true;
    this.sending.end(lost('the session was ended'));
  }
}

/** Statements in requests to a hatch. */
class HatchLine implements StatementLine {
  isOver = false;
  private readonly hatch: Hatch;
  private readonly place: DatabasePlace;
  private state = new SessionState(beginning);
  private known: Promise<ReadonlyMap<string, Known>> | undefined;
  private pauses = 0;
  private resumed: { promise: Promise<void>; resolve: () => void } | undefined;
  /** How much of what fits into a request is done within it, 0 to 1: less where the server is slow. */
  private pace = 1;
  /** Requests that have read tables since the session was begun. */
  readings = 0;
  /** Those that have turned out to be longer than a slice, whatever the server says of their tables. */
  private readonly long = new WeakSet<Asked>();

  constructor(place: DatabasePlace, hatch: Hatch) {
    this.place = place;
    this.hatch = hatch;
  }

  /** Bytes, as they are sent, of what should be done within one request. */
  get bytesAtOnce(): number {
    return this.hatch.bytesAtOnce * this.pace - room;
  }

  forget(): void {
    this.state = new SessionState(beginning);
    this.readings = 0;
    this.known = undefined;
  }

  pause(): void {
    if (this.pauses++ > 0) return;
    let resolve = () => {};
    const promise = new Promise<void>(done => {
      resolve = done;
    });
    this.resumed = { promise, resolve };
  }

  resume(): void {
    if (--this.pauses > 0) return;
    this.resumed?.resolve();
    this.resumed = undefined;
  }

  end(): void {}

  take(waiting: Asked[]): Asked[] {
    const weigh = (sql: string) => this.hatch.weightOf(sql) + 5;
    let bytes = this.state.statements.reduce((sum, { sql }) => sum + weigh(sql), 0);
    let count = 0;
    for (const { sql } of waiting) {
      bytes += weigh(sql);
      if (count > 0 && bytes > this.hatch.requestBytes - room) break;
      count++;
    }
    return waiting.splice(0, count);
  }

  async send(batch: readonly Asked[]): Promise<{ done: number; error?: unknown }> {
    let done = 0;
    try {
      while (done < batch.length) {
        await this.resumed?.promise;
        if (this.isOver) throw lost('the session was ended');
        if (/^ROLLBACK$/i.test(batch[done]!.sql)) {
          // What was not committed is not there: it ended with its request.
          this.state.ran(batch[done]!.sql, '');
          batch[done++]!.resolve({ affected: 0 });
          continue;
        }
        const long = await Promise.all(batch.slice(done).map(one => this.longReading(one)));
        if (long[0]) {
          await this.readInParts(batch[done]!, long[0]);
          done++;
        } else {
          const end = long.findIndex(parts => parts !== undefined);
          const some = batch.slice(done, end < 0 ? undefined : done + end);
          const count = await this.sendSome(some);
          this.pace = count < some.length ? Math.max(leastPace, this.pace / 2) : Math.min(1, this.pace * 1.1);
          done += count;
        }
      }
      return { done };
    } catch (error) {
      if (error instanceof StatementFailed) return { done: done + error.done, error: error.cause };
      return { done, error: errorOf(error) };
    }
  }

  /** Sends statements. @returns how many of them were done in this slice */
  private async sendSome(batch: readonly Asked[]): Promise<number> {
    let done = 0;
    let failure: unknown;
    let rows: (Buffer | null)[][] = [];
    const give = (cells: (Buffer | null)[]) => {
      try {
        if (failure === undefined) batch[done]!.take?.(cells);
      } catch (thrown) {
        failure = thrown;
      }
    };
    const { cut, error } = await this.exchange(
      batch.map(({ sql, reading }) => ({ sql, kind: reading ? 'in parts' : 'once' })),
      {
        // Of a table that turns out to be longer than a slice nothing is given yet.
        row: cells => (batch[done]!.reading ? rows.push(cells) : give(cells)),
        end: effect => {
          for (const cells of rows) give(cells);
          rows = [];
          const one = batch[done++]!;
          if (failure === undefined) one.resolve(effect);
          else one.reject(failure);
          failure = undefined;
        },
      },
    );
    if (error !== undefined) throw new StatementFailed(done, error);
    if (cut) this.long.add(batch[done]!);
    return done;
  }

  /** Reads a whole table, each part behind the last row of the one before, which is asked for while that one is taken. */
  private async readInParts(one: Asked, { parts, rows }: LongReading): Promise<void> {
    let most = rows;
    const ask = () => this.answerTo([{ sql: parts.next(most), kind: 'in parts' }]);
    let coming = ask();
    for (;;) {
      const { data, result } = await coming;
      const failed = errorIn(result);
      if (failed) throw new StatementFailed(0, failed);
      const { count, cells } = lastRow(data);
      const isCut = result.cut === true;
      if (isCut && count === 0) throw new StatementFailed(0, tooLong());
      parts.came(count, cells);
      const isLast = !isCut && count < most;
      if (count > 0) most = rowsThatFit((count / data.length) * filled * answerBytes, most);
      await this.resumed?.promise;
      if (this.isOver) throw lost('the session was ended');
      if (!isLast) coming = ask();
      // Whatever comes of it is seen when it is waited for, unless what is taken now fails.
      coming.catch(() => {});
      readRows(data, { row: row => one.take?.(parts.asked(row)), end: () => {} });
      if (isLast) break;
    }
    one.resolve({ affected: parts.rows });
  }

  private async exchange(
    statements: readonly HatchStatement[],
    taker: { row(cells: (Buffer | null)[]): void; end(effect: Effect): void },
  ): Promise<{ cut: boolean; error: unknown }> {
    const { data, result } = await this.answerTo(statements);
    let at = 0;
    readRows(data, {
      row: taker.row,
      end: (effect, found) => {
        this.state.ran(statements[at++]!.sql, found.toString('hex'));
        taker.end(effect);
      },
    });
    return { cut: result.cut === true, error: errorIn(result) };
  }

  /** Asks for statements, behind what the session holds. */
  private async answerTo(statements: readonly HatchStatement[]): Promise<HatchAnswer> {
    const held = this.state.statements;
    const { host, port, socket, user, password, name } = this.place;
    if (statements.some(({ kind }) => kind === 'in parts')) this.readings++;
    return this.hatch.ask(
      {
        do: 'sql',
        database: { host, port, socket: socket ?? null, user, password, name },
        found: held.map(({ found }) => found),
        bytes: answerBytes,
      },
      {
        data: statementBytes([...held.map(({ sql }) => ({ sql, kind: 'repeated' as const })), ...statements]),
        isOnce: statements.some(({ sql }) => changes(sql)),
        packs: true,
      },
    );
  }

  /** How a statement is continued that reads a table which is too long for one request; undefined for any other. */
  private async longReading(asked: Asked): Promise<LongReading | undefined> {
    const { reading } = asked;
    if (!reading) return undefined;
    this.known ??= this.look();
    const known = (await this.known).get(reading.table);
    if (!known || (known.bytes <= wholeBytes && !this.long.has(asked))) return undefined;
    const parts = new TableParts(reading.table, reading.selected, known);
    // What the server says of a table is an estimate, and may be old.
    const each = known.bytes > wholeBytes ? known.bytes / Math.max(1, known.rows) : unknownRow;
    return { parts, rows: rowsThatFit((filled * answerBytes) / Math.max(1, each), mostRows) };
  }

  private async look(): Promise<ReadonlyMap<string, Known>> {
    const [tables, columns, keys] = await this.direct(session =>
      Promise.all([tablesOf(session), columnsOf(session), keysOf(session)]),
    );
    return new Map(
      tables.map(({ name, rows, bytes }) => [
        name,
        { rows, bytes, columns: columns.get(name) ?? [], key: keys.get(name) },
      ]),
    );
  }

  /** Asks while a statement waits: not behind it. */
  private direct<T>(work: (session: Pick<DatabaseSession, 'rows'>) => Promise<T>): Promise<T> {
    const sending = new Sending({
      take: waiting => waiting.splice(0),
      send: async batch => ({ done: await this.sendSome(batch) }),
      end: () => {},
    });
    const rows = async (statement: EncodedSql) => {
      const list: (string | null)[][] = [];
      await sending.ask({
        sql: statement,
        take: cells => list.push(cells.map(cell => cell?.toString('utf8') ?? null)),
      });
      return list;
    };
    return work({ rows });
  }
}

/** A table that is read in parts, and how many rows are asked for at first. */
interface LongReading {
  readonly parts: TableParts;
  readonly rows: number;
}

/** @param rows that should fit @param before how many were asked for last: it grows step by step */
function rowsThatFit(rows: number, before: number): number {
  return Math.ceil(Math.max(1, Math.min(rows, before * 4, mostRows)));
}

/** A statement of several that failed, and how many before it were done. */
class StatementFailed extends Error {
  readonly done: number;

  constructor(done: number, cause: unknown) {
    super('a statement failed', { cause });
    this.done = done;
  }
}

/** Names of errors that others look for: https://mariadb.com/kb/en/mariadb-error-codes/ */
const names: Readonly<Record<number, string>> = {
  1044: 'ER_DBACCESS_DENIED_ERROR',
  1045: 'ER_ACCESS_DENIED_ERROR',
  1049: 'ER_BAD_DB_ERROR',
  1053: 'ER_SERVER_SHUTDOWN',
  1205: 'ER_LOCK_WAIT_TIMEOUT',
  1213: 'ER_LOCK_DEADLOCK',
  2002: 'ECONNREFUSED',
  2003: 'ECONNREFUSED',
  2005: 'ENOTFOUND',
  2006: 'PROTOCOL_CONNECTION_LOST',
  2013: 'PROTOCOL_CONNECTION_LOST',
};

/** The error of the statement that failed; undefined where none did. */
function errorIn(result: HatchAnswer['result']): Error | undefined {
  if (result.errno === undefined) return undefined;
  const text = Buffer.from(String(result['error-text']), 'base64').toString();
  return sqlError(Number(result.errno), String(result.state), text);
}

/** An error as the driver of the servers would give it. */
function sqlError(errno: number, sqlState: string, sqlMessage: string): Error {
  const code = names[errno] ?? `ER_${errno}`;
  return Object.assign(new Error(sqlMessage), { code, errno, sqlState, sqlMessage });
}

function lost(why: string): Error {
  return Object.assign(new Error(why), { code: 'PROTOCOL_CONNECTION_LOST' });
}

function tooLong(): Error {
  return sqlError(1969, '70100', 'a statement takes longer, or gives more, than the host lets one request');
}

function errorOf(error: unknown): unknown {
  if (error instanceof HatchSilent) return lost(`the hatch did not answer: ${error.message}`);
  if (!(error instanceof HatchRefusal)) return error;
  if (error.kind === 'database') {
    const { errno, text } = JSON.parse(error.message) as { errno: number; text: string };
    return sqlError(errno, '', text);
  }
  // Others have changed what a transaction had seen: it is done again from its beginning.
  if (error.kind === 'changed' || error.kind === 'repeated') return sqlError(1213, '40001', error.message);
  return sqlError(1235, '42000', error.message);
}
