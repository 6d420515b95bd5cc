import { DamageError } from '../../../../core/errors.js';
import type { EncodedSql } from '../../../../core/sql/encoded-sql.js';
import { isLost } from './errors.js';

/** What a server answers to a statement that gives no rows. */
export interface Effect {
  readonly affected: number;
}

/** Takes a row. The cells are only good until the next. */
export type TakeRow = (cells: (Buffer | null)[]) => void;

/** A table of which every row is read, so that the reading can be continued behind a row. */
export interface TableReading {
  readonly table: string;
  /** What is selected of it, in order. */
  readonly selected: readonly EncodedSql[];
}

/** A statement as it is sent. */
export interface Statement {
  readonly sql: EncodedSql;
  /** Takes the rows of one that gives some. */
  readonly take?: TakeRow | undefined;
  /** Says that it reads a whole table. */
  readonly reading?: TableReading | undefined;
}

/** The end of statements that were sent together: what those did that went well, and the first that did not. */
export interface TogetherDone {
  readonly effects: readonly Effect[];
  readonly failed: { readonly at: number; readonly error: unknown } | undefined;
}

/** A statement that waits for its turn or its answer. */
export interface Asked extends Statement {
  /** Those that are not run any more when one of them fails. */
  readonly group: object | undefined;
  resolve(effect: Effect): void;
  reject(error: unknown): void;
}

/** How statements get to a server. */
export interface StatementLine {
  /** Takes those off a queue that go together next. */
  take(waiting: Asked[]): Asked[];
  /** @returns how many of the statements went well; where that is not all, the error of the next */
  send(batch: readonly Asked[]): Promise<{ done: number; error?: unknown }>;
  /** Ends the statements that are under way. */
  end(error: unknown): void;
}

/**
 * Sends statements: those that are asked at the same moment, or wait while another runs, go together where that is
 * possible. The first that fails ends them; those behind it are sent again, unless they belong to one that failed.
 */
export class Sending {
  private readonly line: StatementLine;
  private waiting: Asked[] = [];
  private isBusy = false;

  constructor(line: StatementLine) {
    this.line = line;
  }

  ask(statement: Statement, group?: object): Promise<Effect> {
    return new Promise((resolve, reject) => {
      this.waiting.push({ ...statement, group, resolve, reject });
      if (this.isBusy) return;
      this.isBusy = true;
      // What others ask now goes along.
      setImmediate(() => this.work());
    });
  }

  /** Sends a statement with those that are asked next, which say more where it fails. */
  before(statement: EncodedSql): void {
    const ignored = () => {};
    this.waiting.push({ sql: statement, group: undefined, resolve: ignored, reject: ignored });
  }

  /** Runs statements one after the other until one fails. */
  async together(statements: readonly Statement[]): Promise<TogetherDone> {
    const group = {};
    const ends = await Promise.allSettled(statements.map(one => this.ask(one, group)));
    const effects: Effect[] = [];
    for (const [at, end] of ends.entries()) {
      if (end.status === 'rejected') return { effects, failed: { at, error: end.reason } };
      effects.push(end.value);
    }
    return { effects, failed: undefined };
  }

  /** Ends all that wait. */
  end(error: unknown): void {
    const { waiting } = this;
    this.waiting = [];
    this.line.end(error);
    for (const { reject } of waiting) reject(error);
  }

  private async work(): Promise<void> {
    while (this.waiting.length > 0) {
      const batch = this.line.take(this.waiting);
      const { done, error } = await this.line.send(batch);
      if (error === undefined) continue;
      const [failed, ...behind] = batch.slice(done);
      failed?.reject(error);
      this.waiting.unshift(...behind);
      const isEnd = isLost(error) || error instanceof DamageError;
      const isOver = ({ group }: Asked) => isEnd || (group !== undefined && group === failed?.group);
      for (const one of this.waiting.filter(isOver)) one.reject(error);
      this.waiting = this.waiting.filter(one => !isOver(one));
    }
    this.isBusy = false;
  }
}
