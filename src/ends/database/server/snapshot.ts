import { DamageError } from '../../../core/errors.js';
import type { Column } from '../../../core/sql/column.js';
import { type EncodedSql, encodedSql, identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import { isAllowed, StatementJudge } from '../../../core/sql/judge/judge.js';
import { isSafeCharset } from '../../../core/sql/judge/settings.js';
import { version } from '../../../version.js';
import type {
  AlsoTaken,
  DatabaseSnapshot,
  DumpSink,
  SeenTable,
  SnapshotOptions,
  TableOptions,
} from '../database-end.js';
import { columnsOf, tablesOf, triggersOf } from './catalog.js';
import { KeptSessions } from './session/kept-sessions.js';
import { openSession } from './session/open-session.js';
import type { DatabaseRoute, DatabaseSession } from './session/session.js';
import { TableStreams, type TableWanted } from './table-streams.js';

/** The SQL mode of a dump: what is in it goes in as it is, also a zero in a counted column. */
const ownMode = 'NO_AUTO_VALUE_ON_ZERO';
type ProgramKind = 'TRIGGER' | 'PROCEDURE' | 'FUNCTION' | 'EVENT';

/** Engines whose tables a transaction sees as they were when it began. */
const steady = /^(?:innodb|rocksdb|tokudb|ndbcluster)$/i;
/** So much may wait for the disk before the server is asked to wait, in bytes. */
const mostWaiting = 4 * 1024 * 1024;

/**
 * A database as it is at one moment: every table of an engine with transactions is read as it was when the snapshot
 * was opened, whatever is written meanwhile. Nothing is changed.
 */
export class Snapshot implements DatabaseSnapshot {
  readonly tables: readonly SeenTable[];
  readonly server: string;
  /** The character set in which text is read and the dump is written. */
  readonly charset: string;
  private readonly session: DatabaseSession;
  private readonly kept: KeptSessions;
  private readonly columns: ReadonlyMap<string, readonly Column[]>;
  private locks: DatabaseSession | undefined;
  private readonly streams: TableStreams;
  /** Views and programs that were not written, since they work with more than tables of their own database. */
  readonly leftOut: { readonly what: string; readonly why: string }[] = [];

  private constructor(
    { session, kept }: { readonly session: DatabaseSession; readonly kept: KeptSessions },
    tables: readonly SeenTable[],
    columns: ReadonlyMap<string, readonly Column[]>,
    server: string,
    charset: string,
  ) {
    this.session = session;
    this.kept = kept;
    this.tables = tables;
    this.columns = columns;
    this.server = server;
    this.charset = charset;
    this.streams = new TableStreams(session, charset);
  }

  static async open(
    route: DatabaseRoute,
    { charset, choose }: SnapshotOptions,
    kept = new KeptSessions(),
  ): Promise<Snapshot> {
    const session = await kept.take(route);
    try {
      // Large tables take long to read.
      const began = session.runAll(
        sql`SET SESSION sql_mode = '', time_zone = '+00:00', net_write_timeout = 28800, net_read_timeout = 28800, wait_timeout = 28800`,
        sql`SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ`,
        sql`START TRANSACTION WITH CONSISTENT SNAPSHOT`,
      );
      const asked = [session.value(sql`SELECT VERSION()`), columnsOf(session), tablesOf(session)] as const;
      const [, server, columns, all] = await Promise.all([began, ...asked]);
      const tables = choose(all);
      const used = spokenIn(
        charset,
        tables.flatMap(({ name }) => columns.get(name) ?? []),
      );
      await session.run(sql`SET NAMES ${encodedSql(used)}`);
      return new Snapshot({ session, kept }, tables, columns, server ?? '', used);
    } catch (error) {
      kept.drop(session);
      session.destroy();
      throw error;
    }
  }

  /** The tables that hold rows of their own. */
  get own(): readonly SeenTable[] {
    return this.tables.filter(({ kind }) => kind === 'table');
  }

  get moments(): number {
    return this.session.moments;
  }

  /** Tables of engines without transactions: they are read as they are when their turn comes. */
  get unsteady(): readonly SeenTable[] {
    return this.own.filter(({ engine, trouble }) => !trouble && !steady.test(engine));
  }

  /**
   * Keeps others from writing to some tables until the snapshot is closed.
   * @returns false where the account may not
   */
  async lock(tables: readonly SeenTable[]): Promise<boolean> {
    if (!this.session.lasts) return false;
    // On a connection of its own, for locking ends a transaction.
    const session = await openSession(this.session.route);
    try {
      await session.run(sql`LOCK TABLES ${joined(tables.map(({ name }) => sql`${identifier(name)} READ`))}`);
      this.locks = session;
      return true;
    } catch {
      session.destroy();
      return false;
    }
  }

  /** What a dump says before its first table. */
  head(taken: Date): Buffer {
    return Buffer.from(
      [
        `-- Able Porter ${version} dump of ${inComment(this.session.route.place.name)}`,
        `-- Server version\t${inComment(this.server)}`,
        `-- Taken ${taken.toISOString()}`,
        '',
        `SET NAMES ${this.charset};`,
        "SET TIME_ZONE='+00:00';",
        `SET SQL_MODE='${ownMode}';`,
        'SET FOREIGN_KEY_CHECKS=0;',
        'SET UNIQUE_CHECKS=0;',
        '',
        '',
      ].join('\n'),
    );
  }

  /** What a dump says after its last, without which it does not look whole. */
  tail(): Buffer {
    return Buffer.from('\nSET UNIQUE_CHECKS=1;\nSET FOREIGN_KEY_CHECKS=1;\n-- Dump completed\n');
  }

  expect(tables: readonly { readonly table: SeenTable; readonly most?: number | undefined }[]): void {
    this.streams.expect(tables.map(({ table, most }) => this.wanted(table, most)));
  }

  private wanted({ name }: SeenTable, most: number | undefined): TableWanted {
    return { name, columns: this.columnsOf(name), most };
  }

  /** Writes a table: how it is made, and its rows. Gives how many. */
  async writeTable(
    table: SeenTable,
    sink: DumpSink,
    signal: AbortSignal,
    { progress, most }: TableOptions = {},
  ): Promise<number> {
    const name = identifier(table.name);
    const wanted = this.wanted(table, most);
    this.streams.ask(wanted);
    const create = (await this.streams.definition(wanted)) ?? this.refuseHidden(sql`TABLE`, name);
    this.requireTable(name, create);
    sink.take(
      Buffer.from(`\n-- Table ${inComment(name)}\n\nDROP TABLE IF EXISTS ${name};\n${create};\n\n`, 'latin1'),
    );
    let paused = false;
    let failure: unknown;
    const fail = (error: unknown) => {
      failure = error;
      this.session.destroy();
    };
    const take = (chunk: Buffer, soFar: number) => {
      sink.take(chunk);
      progress?.(soFar);
      if (signal.aborted) this.session.destroy();
      if (sink.waiting < mostWaiting || paused) return;
      paused = true;
      this.session.pause();
      sink.room(mostWaiting / 2).then(() => {
        paused = false;
        this.session.resume();
      }, fail);
    };
    try {
      const rows = await this.streams.rows(wanted, take);
      await sink.room(0);
      signal.throwIfAborted();
      return rows;
    } catch (error) {
      signal.throwIfAborted();
      throw failure ?? error;
    }
  }

  /** The columns of a table that hold values of their own. */
  columnsOf(table: string): readonly Column[] {
    return (this.columns.get(table) ?? []).filter(({ generated }) => !generated);
  }

  /** Writes what works on tables: triggers, routines, events and views, each after what it may need. */
  async writePrograms(sink: DumpSink, also: AlsoTaken): Promise<void> {
    const { session } = this;
    const wanted = new Set(this.tables.map(({ name }) => name));
    const none: Promise<(string | null)[][]> = Promise.resolve([]);
    const [triggers, routines, events, views] = await Promise.all([
      triggersOf(session),
      also.routines
        ? session.rows(
            sql`SELECT ROUTINE_TYPE, ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = DATABASE()`,
          )
        : none,
      also.events
        ? session.rows(sql`SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()`)
        : none,
      this.viewsInOrder(),
    ]);
    await this.writeProgramsOf(sink, [
      ...triggers
        .filter(({ table }) => wanted.has(table))
        .map(({ name }) => ({ kind: 'TRIGGER', name }) as const),
      ...routines.map(([type, name]) => ({
        kind: type === 'FUNCTION' ? ('FUNCTION' as const) : ('PROCEDURE' as const),
        name: name!,
      })),
    ]);
    for (const { name, create } of views)
      if (this.isTaken(`the view ${name}`, create))
        sink.take(Buffer.from(`\nDROP VIEW IF EXISTS ${identifier(name)};\n${create};\n`, 'latin1'));
    await this.writeProgramsOf(
      sink,
      events.map(([name]) => ({ kind: 'EVENT', name: name! })),
    );
    await sink.room(0);
  }

  async close(): Promise<void> {
    await this.locks?.close();
    // What was asked for and is not wanted any more may take long to come.
    if (this.streams.isUnderWay || this.session.isOver) {
      this.kept.drop(this.session);
      this.session.destroy();
    } else await this.kept.giveBack(this.session);
  }

  /** What `SHOW CREATE …` says, as bytes. @param column the one that holds the statement */
  private async created(kind: EncodedSql, name: EncodedSql, column: number): Promise<string[]> {
    let cells: (Buffer | null)[] = [];
    await this.session.each(sql`SHOW CREATE ${kind} ${name}`, row => {
      cells = row;
    });
    return cells[column] ? cells.map(cell => cell?.toString('latin1') ?? '') : this.refuseHidden(kind, name);
  }

  private refuseHidden(kind: EncodedSql, name: EncodedSql): never {
    throw new DamageError({
      doing: `Taking the ${kind.toLowerCase()} ${name}`,
      cause: 'the server does not show its definition',
      remedy: 'Give the user the right to see it (SHOW VIEW, TRIGGER, or being its owner), or leave it out',
    });
  }

  /** @throws DamageError where a server says of a table what would do more than make it */
  private requireTable(name: EncodedSql, create: string): void {
    const verdict = new StatementJudge().judge(create);
    if (isAllowed(verdict)) return;
    throw new DamageError({
      doing: `Taking the table ${name}`,
      cause: `its definition does more than make a table: ${verdict.why}`,
      remedy: 'Leave it out by name (take.database.tables.without), and do by hand what the site needs of it',
    });
  }

  /** Whether a view or a program works with tables of its own database alone. @param mode the SQL mode of a program */
  private isTaken(what: string, create: string, mode = ''): boolean {
    const judge = new StatementJudge();
    if (mode !== '') judge.judge(`SET SQL_MODE='${mode}'`);
    const verdict = judge.judge(create);
    if (!isAllowed(verdict)) this.leftOut.push({ what, why: verdict.why });
    return isAllowed(verdict);
  }

  /** Writes what runs at the server, in the SQL mode in which it was made. */
  private async writeProgramsOf(
    sink: DumpSink,
    programs: readonly { readonly kind: ProgramKind; readonly name: string }[],
  ): Promise<void> {
    const all = await Promise.all(
      programs.map(({ kind, name }) => this.created(encodedSql(kind), identifier(name), columnOf(kind))),
    );
    for (const [i, { kind, name }] of programs.entries()) this.writeProgram(sink, kind, name, all[i]!);
  }

  private writeProgram(sink: DumpSink, kind: ProgramKind, name: string, cells: readonly string[]): void {
    const quoted = identifier(name);
    const column = columnOf(kind);
    const mode = (cells[1] ?? '').replace(/[^A-Z_,0-9]/gi, '');
    if (!this.isTaken(`the ${kind.toLowerCase()} ${name}`, cells[column]!, mode)) return;
    const lines = [
      '',
      `DROP ${kind} IF EXISTS ${quoted};`,
      `SET SQL_MODE='${mode}';`,
      'DELIMITER ;;',
      `${cells[column]};;`,
      'DELIMITER ;',
      `SET SQL_MODE='${ownMode}';`,
      '',
    ];
    sink.take(Buffer.from(lines.join('\n'), 'latin1'));
  }

  /** Views after those that they look at. */
  private async viewsInOrder(): Promise<{ name: string; create: string }[]> {
    const database = identifier(this.session.route.place.name);
    const views = await Promise.all(
      this.tables
        .filter(({ kind }) => kind === 'view')
        .map(async ({ name }) => {
          const [, create = ''] = await this.created(sql`VIEW`, identifier(name), 1);
          return { name, create: withoutDatabase(create, database) };
        }),
    );
    const looksAt = (one: { create: string }, other: { name: string }) =>
      one.create.includes(identifier(other.name), one.create.search(/\sAS\s/i));
    const ordered: typeof views = [];
    while (views.length > 0) {
      const free = views.findIndex(one => !views.some(other => other !== one && looksAt(one, other)));
      ordered.push(...views.splice(Math.max(free, 0), 1));
    }
    return ordered;
  }
}

/** Which cell of `SHOW CREATE …` holds the statement; that of an event comes after its time zone. */
function columnOf(kind: ProgramKind): number {
  return kind === 'EVENT' ? 3 : 2;
}

/** A text that stays in its line, and says nothing to the client of a database. */
function inComment(text: string): string {
  return text.replace(/[\x00-\x1f\x7f\\]/g, ' ');
}

/** A view's program names its own database before every table; without it the view can be loaded elsewhere. */
function withoutDatabase(create: string, database: string): string {
  return create.replaceAll(`${database}.`, '');
}

/**
 * The character set to read and write text in. That of the site's own connection, so that the lengths in its
 * serialized values are true for the dump; where columns are of other character sets too, only UTF-8 can say all.
 */
function spokenIn(charset: string | undefined, columns: readonly Column[]): string {
  const wanted = charset?.toLowerCase() ?? '';
  if (!isSafeCharset(wanted) || /^utf-?8/.test(wanted)) return 'utf8mb4';
  return columns.every(column => column.charset === undefined || column.charset === wanted)
    ? wanted
    : 'utf8mb4';
}
