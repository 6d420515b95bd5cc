import type { DatabasePlace } from '../../../../core/database/place.js';
import type { EncodedSql } from '../../../../core/sql/encoded-sql.js';
import type { Hatch } from '../../../hatch/hatch.js';
import type { SshSession } from '../../../ssh/session.js';
import type { Effect, Statement, TableReading, TakeRow, TogetherDone } from './sending.js';

/** How a database is reached: straight, from the host of an SSH account, or through a hatch. */
export interface DatabaseRoute {
  readonly place: DatabasePlace;
  readonly through: SshSession | Hatch | undefined;
}

/** A session at a database server. Statements are bytes and are sent as they are; those that are asked together go together. */
export abstract class DatabaseSession {
  abstract readonly route: DatabaseRoute;
  /** Whether what was set in it can be forgotten, to use it again. */
  abstract readonly canBeReset: boolean;
  /** Whether the connection has ended. */
  abstract isOver: boolean;
  /** Whether locks, transactions and what they see last from one request to the next. */
  readonly lasts: boolean = true;
  /** Bytes of statements that are best done or undone together, where there is such a limit. */
  get mostTogether(): number | undefined {
    return undefined;
  }

  /** Of how many moments the tables are that its transaction has read. */
  get moments(): number {
    return 1;
  }

  /** How many bytes of what goes together a statement takes. */
  weightOf(text: string): number {
    return text.length;
  }

  /** Rows as text, for what the server says of itself. */
  async rows(sql: EncodedSql): Promise<(string | null)[][]> {
    const list: (string | null)[][] = [];
    await this.each(sql, cells => list.push(cells.map(cell => cell?.toString('utf8') ?? null)));
    return list;
  }

  /** The first cell of the first row, as text. */
  async value(sql: EncodedSql): Promise<string | null | undefined> {
    return (await this.rows(sql))[0]?.[0];
  }

  /** Runs statements that go to the server together. @throws the error of the first that fails */
  async runAll(...statements: readonly EncodedSql[]): Promise<void> {
    const { failed } = await this.together(statements.map(one => ({ sql: one })));
    if (failed) throw failed.error;
  }

  /**
   * Gives each row as it comes in. A `cells` is only good until the next.
   * @param reading says that the statement reads a whole table
   */
  abstract each(sql: EncodedSql, take: TakeRow, reading?: TableReading): Promise<void>;
  /** Runs a statement that gives no rows. */
  abstract run(sql: EncodedSql): Promise<Effect>;
  /** Runs statements that go to the server together; the first that fails ends them. @returns how far they came */
  abstract together(statements: readonly Statement[]): Promise<TogetherDone>;
  /** The number that the server has given it. */
  abstract get number(): number;
  /** Readies a session that was reset: its character set is that of the server then. */
  abstract beginAgain(): void;
  /** Lets the server forget what was set, held and begun. @returns false where it cannot (COM_RESET_CONNECTION) */
  abstract reset(): Promise<boolean>;
  /** Keeps the server from sending more rows until `resume`; where several ask for it, until all of them have resumed. */
  abstract pause(): void;
  abstract resume(): void;
  abstract close(): Promise<void>;
  /** Ends the connection without a word, also while a statement runs. */
  abstract destroy(): void;
}
