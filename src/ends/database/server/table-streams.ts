import { InsertWriter } from '../../../core/database/insert-writer.js';
import { type Column, introducerOf, selectedAs, writingOf } from '../../../core/sql/column.js';
import { identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { DatabaseSession } from './session/session.js';

/** A table that is to be read, and how. */
export interface TableWanted {
  readonly name: string;
  readonly columns: readonly Column[];
  /** No more rows than so many; 0 for none. */
  readonly most: number | undefined;
}

/** What has come of a table. */
interface TableStream {
  /** What `SHOW CREATE TABLE` says, as bytes; undefined where the server does not show it. */
  readonly create: Promise<string | undefined>;
  /** Resolves when all rows have come. */
  readonly end: Promise<void>;
  readonly head: string;
  readonly columns: readonly Column[];
  rows: number;
  /** Statements that have come before anybody takes them. */
  early: Buffer[];
  take: ((chunk: Buffer) => void) | undefined;
}

/** So many tables are asked for before they are written. */
const ahead = 32;
/** So many bytes may wait of tables whose turn has not come. */
const mostEarly = 4 * 1024 * 1024;

/**
 * Reads tables over one session: some are asked for together and come one after the other, so that none waits for a round
 * trip of its own.
 */
export class TableStreams {
  private readonly session: DatabaseSession;
  private readonly charset: string;
  private readonly wanted: TableWanted[] = [];
  private readonly asked = new Map<string, TableStream>();
  /** One for all tables, for its memory is not given back soon. */
  private readonly writer = new InsertWriter(chunk => this.passOn(chunk));
  /** Whose rows come. */
  private current: TableStream | undefined;
  private early = 0;
  private isHeld = false;

  /** @param charset in which text is read and written */
  constructor(session: DatabaseSession, charset: string) {
    this.session = session;
    this.charset = charset;
  }

  /** Whether some tables were asked for and not taken. */
  get isUnderWay(): boolean {
    return this.asked.size > 0;
  }

  /** Says which tables will be taken next, in order. */
  expect(tables: readonly TableWanted[]): void {
    this.wanted.push(...tables);
  }

  /** How the next table is made. */
  definition({ name }: TableWanted): Promise<string | undefined> {
    return this.asked.get(name)?.create ?? Promise.resolve(undefined);
  }

  /** Asks for a table and for those that are expected after it. */
  ask(table: TableWanted): void {
    if (!this.asked.has(table.name)) {
      const at = this.wanted.findIndex(({ name }) => name === table.name);
      if (at < 0) this.begin(table);
      else this.wanted.splice(0, at);
    }
    for (const one of this.wanted.splice(0, Math.max(0, ahead - this.asked.size))) this.begin(one);
  }

  /**
   * Gives the rows of a table that was asked for, as statements, and waits until all have come.
   * @param take gets bytes that are only good until it returns, and how many rows have come
   * @returns how many rows there are
   */
  async rows({ name }: TableWanted, take: (chunk: Buffer, rows: number) => void): Promise<number> {
    const stream = this.asked.get(name)!;
    const { early } = stream;
    stream.early = [];
    stream.take = chunk => take(chunk, this.writer.rows);
    for (const chunk of early) {
      this.early -= chunk.length;
      take(chunk, stream.rows);
    }
    if (this.isHeld && this.early < mostEarly) {
      this.isHeld = false;
      this.session.resume();
    }
    await stream.end;
    this.asked.delete(name);
    return stream.rows;
  }

  private begin({ name, columns, most }: TableWanted): void {
    const { session } = this;
    const quoted = identifier(name);
    let create: string | undefined;
    const created = session.each(sql`SHOW CREATE TABLE ${quoted}`, cells => {
      create = cells[1]?.toString('latin1');
    });
    const selected = columns.map(selectedAs);
    const limit = most === undefined ? sql`` : sql` LIMIT ${most}`;
    const read =
      most === 0
        ? created
        : session.each(
            sql`SELECT ${joined(selected)} FROM ${quoted}${limit}`,
            cells => {
              this.turnTo(stream);
              this.writer.row(cells);
            },
            most === undefined ? { table: name, selected } : undefined,
          );
    const stream: TableStream = {
      create: created.then(() => create),
      end: read.then(() => {
        if (this.current === stream) this.turnTo(undefined);
      }),
      head: `INSERT INTO ${quoted} (${columns.map(column => identifier(column.name)).join()}) VALUES`,
      columns,
      rows: 0,
      early: [],
      take: undefined,
    };
    // Whoever takes the table hears of its error; nobody may come to it.
    stream.create.catch(() => {});
    stream.end.catch(() => {});
    this.asked.set(name, stream);
  }

  /** Ends the statement of the table whose rows came, and begins that of the next. */
  private turnTo(next: TableStream | undefined): void {
    const { current, writer } = this;
    if (current === next) return;
    if (current) {
      writer.finish();
      current.rows = writer.rows;
    }
    this.current = next;
    if (!next) return;
    const written = next.columns.map(column => ({
      writing: writingOf(column),
      introducer: introducerOf(column, this.charset),
    }));
    writer.begin(next.head, written);
  }

  private passOn(chunk: Buffer): void {
    const { current } = this;
    if (current?.take) {
      current.take(chunk);
      return;
    }
    current?.early.push(Buffer.from(chunk));
    this.early += chunk.length;
    if (this.early < mostEarly || this.isHeld) return;
    this.isHeld = true;
    this.session.pause();
  }
}
