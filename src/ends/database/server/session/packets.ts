import type { Connection, ResultSetHeader } from 'mysql2';
import { DamageError } from '../../../../core/errors.js';
import { sql } from '../../../../core/sql/encoded-sql.js';
import type { Asked, Effect, StatementLine, TakeRow } from './sending.js';

/** The number of a collation of latin1, in which one character is one byte. */
const latin1 = 8;
/** Bytes of statements that go together before the server has said how many it takes, and at most. */
const sure = 16 * 1024;
const most = 1000 * 1024;
/** Room for what goes around a statement, in bytes. */
const around = 4096;
/** Behind a question, an answer of which it is known that the rows before it are all there. */
const mark = 'DO 0';
const nothing: Effect = { affected: 0 };

/**
 * Statements in packets over one connection: several in one where the server takes that (https://mariadb.com/kb/en/com_query/).
 */
export class Packets implements StatementLine {
  private readonly connection: Connection;
  private readonly takesSeveral: boolean;
  /** Bytes that the server takes in one packet, as far as it is known. */
  private limit = sure;
  private hasAsked = false;
  /** Ends the statements that are under way. */
  private lost: ((error: unknown) => void) | undefined;

  constructor(connection: Connection, takesSeveral: boolean) {
    this.connection = connection;
    this.takesSeveral = takesSeveral;
  }

  end(error: unknown): void {
    this.lost?.(error);
  }

  take(waiting: Asked[]): Asked[] {
    if (!this.takesSeveral) return waiting.splice(0, 1);
    let bytes = 0;
    let count = 0;
    for (const { sql } of waiting) {
      bytes += sql.length + mark.length + 3;
      if (count > 0 && bytes > this.limit) break;
      count++;
    }
    const batch = waiting.splice(0, count);
    if (batch.length > 1 && !this.hasAsked) batch.unshift(this.askLimit());
    return batch;
  }

  private askLimit(): Asked {
    this.hasAsked = true;
    const take: TakeRow = ([bytes]) => {
      const packet = Number(bytes);
      if (packet > sure + around) this.limit = Math.min(most, packet - around);
    };
    // Where it is not answered, the connection is lost, and the others say so.
    return {
      sql: sql`SELECT @@max_allowed_packet`,
      take,
      group: undefined,
      resolve: () => {},
      reject: () => {},
    };
  }

  send(batch: readonly Asked[]): Promise<{ done: number; error?: unknown }> {
    const { connection } = this;
    const text =
      batch.length === 1
        ? batch[0]!.sql
        : batch.map(({ sql, take }) => (take ? `${sql}\n;${mark}` : sql)).join('\n;');
    const answers = new Answers(batch);
    return new Promise(resolve => {
      const finish = (error?: unknown) => {
        this.lost = undefined;
        resolve({ done: answers.done, error });
      };
      this.lost = finish;
      // The package writes the bytes as they are in the string; it follows what the server says of the session's
      // character set, so this is said each time.
      connection.config.charsetNumber = latin1;
      let failure: unknown;
      connection
        .query({ sql: text, rowsAsArray: true, typeCast: false })
        .on('fields', fields => answers.begin(fields !== undefined))
        .on('result', (result: unknown) => answers.take(result))
        .once('error', error => {
          failure = error;
        })
        .once('end', () => finish(failure ?? answers.end()));
    });
  }
}

/** Tells which answer belongs to which of the statements that were sent together. */
class Answers {
  done = 0;
  private readonly batch: readonly Asked[];
  private state: 'before' | 'header' | 'rows' | 'mark' = 'before';
  private effect = nothing;
  /** Why whoever takes the rows of the statement cannot continue. */
  private failure: unknown;

  constructor(batch: readonly Asked[]) {
    this.batch = batch;
  }

  /** An answer begins. */
  begin(hasRows: boolean): void {
    if (this.state === 'rows') {
      const isMark = this.batch[this.done]?.take !== undefined;
      this.finish();
      this.state = 'mark';
      if (isMark) return;
    }
    this.state = hasRows ? 'rows' : 'header';
  }

  /** A row, or the whole answer of a statement that gives none. */
  take(result: unknown): void {
    const one = this.batch[this.done];
    if (Array.isArray(result)) {
      try {
        if (this.failure === undefined) one?.take?.(result as (Buffer | null)[]);
      } catch (error) {
        this.failure = error;
      }
      return;
    }
    if (this.state === 'mark') {
      this.state = 'before';
      return;
    }
    const { affectedRows } = (result ?? {}) as ResultSetHeader;
    this.effect = { affected: affectedRows ?? 0 };
    // The mark comes behind a question also where it gives no rows.
    if (one?.take && this.batch.length > 1) this.state = 'rows';
    else {
      this.finish();
      this.state = 'before';
    }
  }

  /** All answers are there. @returns an error where they are too few */
  end(): DamageError | undefined {
    if (this.state === 'rows') this.finish();
    if (this.done === this.batch.length) return undefined;
    return new DamageError({
      doing: 'Asking the database',
      cause: `the server answered ${this.done} of ${this.batch.length} statements that it was sent together`,
      remedy:
        'Run the command again; if that happens again, what stands before the server does not keep to the protocol',
    });
  }

  private finish(): void {
    const one = this.batch[this.done];
    this.done++;
    if (this.failure === undefined) one?.resolve(this.effect);
    else one?.reject(this.failure);
    this.effect = nothing;
    this.failure = undefined;
  }
}
