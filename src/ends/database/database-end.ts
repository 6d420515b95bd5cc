import type { TableContent } from '../../core/database/content/content-digest.js';
import type { RowPrints } from '../../core/database/content/row-prints.js';
import type { Fitted } from '../../core/database/fitting.js';
import type { Line } from '../../core/database/place.js';
import type { RowsToPut } from '../../core/database/row-changes.js';
import type { LaterStatement, RenamedConstraint, Staging } from '../../core/database/staging.js';
import type { PorterError } from '../../core/errors.js';
import type { Workbench } from '../../core/kernels/workbench.js';
import type { Condition, DataEdit } from '../../core/site/data/data-edits.js';
import type { RowChange } from '../../core/site/data/row-edits.js';
import type { Column } from '../../core/sql/column.js';
import type { Allowed } from '../../core/sql/judge/judge.js';
import type { RefusedStatement } from '../../core/sql/scanner.js';

/** A database at one end, whatever reaches it. */
export interface DatabaseEnd {
  /** The name of the database. */
  readonly name: string;
  /** The database as it may be shown: without its password. */
  readonly text: string;
  /** Which database it is, whoever opens it. */
  readonly id: string;
  /** How the line to its server is protected. */
  readonly line: Line;
  /** Opens a connection, works with it, and closes it. @throws EndError when the database cannot be opened */
  use<T>(work: (connection: DatabaseConnection) => Promise<T>): Promise<T>;
  /** Opens the database as it is at one moment. */
  snapshot(options: SnapshotOptions): Promise<DatabaseSnapshot>;
  /** An error of the database as one that says what was being done. */
  toPorterError(error: unknown, doing: string): unknown;
  /** Whether an error means that the connection is no more, though the server may come back. */
  isLost(error: unknown): boolean;
}

/** One connection to a database. */
export interface DatabaseConnection {
  /** What the server says of itself and of the database. */
  server(): Promise<SeenServer>;
  /** All databases that the account sees, with their tables. */
  databases(): Promise<SeenDatabase[]>;
  /** The tables and views of the database, in the order of their names. */
  tables(): Promise<SeenTable[]>;
  /** The columns of every table that hold values of their own, in their order. */
  columns(): Promise<ReadonlyMap<string, readonly Column[]>>;
  triggers(): Promise<string[]>;
  /** Of every table, the columns of its primary key, or of a unique key without NULL in it. */
  keys(): Promise<ReadonlyMap<string, readonly string[]>>;
  /** The foreign keys of the database, and those of others that lead to it. */
  foreignKeys(): Promise<ForeignKey[]>;
  /** Gives a foreign key another name. Safe to repeat. */
  renameConstraint(constraint: RenamedConstraint): Promise<void>;
  /** What a foreign key says after its name; undefined where there is none of that name. */
  constraintDefinition(table: string, name: string): Promise<string | undefined>;
  /** What the server computes of the rows of tables; where it computes nothing, a table is missing. */
  checksums(tables: readonly string[]): Promise<ReadonlyMap<string, string>>;
  /** The connections of others to the database. */
  others(): Promise<number[]>;
  /** Renames tables, all or none. */
  rename(renames: readonly Rename[]): Promise<void>;
  /** Triggers on some tables, and views, as they are made again. */
  programs(tables: ReadonlySet<string>, views: readonly string[]): Promise<StoredProgram[]>;
  dropPrograms(programs: readonly Pick<StoredProgram, 'kind' | 'name'>[]): Promise<void>;
  /** Makes triggers and views again. Safe to repeat. */
  makePrograms(programs: readonly StoredProgram[]): Promise<void>;
  /**
   * Changes rows of several tables in one transaction, in which the note of a load gets -1 for what is done.
   * @param options the character set of the rows, the note, and who keeps what the rows were
   */
  changeRows(
    tables: readonly RowsToPut[],
    options: { readonly charset: string; readonly note: string; readonly keep: KeptOldRows },
  ): Promise<void>;
  /** Runs what a dump says after its tables. Safe to repeat. @returns also what this account may not do of it */
  runLater(
    statements: readonly LaterStatement[],
    server: SeenServer,
  ): Promise<{ readonly fitted: Fitted; readonly denied: readonly LaterStatement[] }>;
  /** Tries out what a load needs. @returns what the account may not do, in words */
  missingAbilities(): Promise<string[]>;
  /** One cell of the last row that a condition finds, as text; undefined where there is none, nor such a table or column. */
  cell(table: string, column: string, where: Condition): Promise<string | undefined>;
  /** Reads and writes text from now on as a dump is written. */
  speakAs(dump: {
    readonly charset: string | undefined;
    readonly timeZone: string | undefined;
  }): Promise<void>;
  /**
   * The content of a table's rows, read back.
   * @param key the columns by which rows are known, where fingerprints of them are taken
   */
  content(table: string, columns: readonly Column[], key?: readonly string[]): Promise<PrintedContent>;
  /** Gives every row of a table. The cells are only good until the next. */
  eachRow(
    table: string,
    columns: readonly Column[],
    take: (cells: readonly (Buffer | null)[]) => void,
  ): Promise<void>;
  /** Removes tables, views and programs, whatever keys lead to them. */
  drop(objects: readonly DatabaseObject[]): Promise<void>;
  /**
   * Carries out edits, each all or none. Safe to repeat.
   * @param before is called with the changes of values before any of them is made
   */
  edit(
    edits: readonly DataEdit[],
    before: (changes: readonly RowChange[]) => Promise<void>,
  ): Promise<EditCount[]>;
  /** How far a load has come; undefined where none has begun. @param note the table in which it says so */
  loadPosition(note: string): Promise<LoadPosition | undefined>;
  /** Notes that a load begins. @param dump its SHA-256 */
  beginLoad(note: string, dump: string): Promise<LoadPosition>;
  /** Loads a dump from its first statement, or from where an earlier load of the same was interrupted. */
  load(file: string, position: LoadPosition, options: LoadOptions): Promise<LoadDone>;
  /** Removes the note of a load. */
  endLoad(note: string): Promise<void>;
  /** Ends the connection at once, also while a statement runs. */
  destroy(): void;
}

/** The content of a table's rows, and fingerprints of them where they were asked for. */
export interface PrintedContent extends TableContent {
  readonly prints: RowPrints | undefined;
}

/** A table that gets another name. */
export interface Rename {
  readonly from: string;
  readonly to: string;
}

/** Takes what rows were before they are changed, as statements. */
export interface KeptOldRows {
  begin(): Promise<void>;
  take(statements: Buffer): void;
  /** All of it is on the disk when this ends. */
  finish(): Promise<void>;
}

/** A foreign key, and the table that it leads to. */
export interface ForeignKey {
  readonly name: string;
  readonly table: string;
  readonly references: string;
  /** Whether the table is in another database. */
  readonly isElsewhere: boolean;
}

/** A trigger or view, as it is made again. */
export interface StoredProgram {
  readonly kind: 'trigger' | 'view';
  readonly name: string;
  /** The SQL mode in which it was made. */
  readonly mode: string;
  /** The statement that makes it, as bytes. */
  readonly create: string;
}

/** A server that an administrator's account opens. */
export interface DatabaseServer {
  /** Makes a database, its user and the user's rights, as far as they are missing. @returns what was made, in words */
  provision(wanted: NewDatabase): Promise<string[]>;
  /** Removes what was made, but for a database in which something is. @returns what is left, in words */
  unprovision(wanted: NewDatabase, made: readonly string[]): Promise<string[]>;
}

/** A database that is to be made, and the account that opens it. */
export interface NewDatabase {
  readonly name: string;
  readonly user: string;
  readonly password: string;
}

/** A table or view, as the server's catalogue has it. */
export interface SeenTable {
  readonly name: string;
  readonly kind: 'table' | 'view';
  /** Empty for a view, and for a table that the server cannot open. */
  readonly engine: string;
  /** As the server estimates them. */
  readonly rows: number;
  /** Bytes of rows and indexes. */
  readonly bytes: number;
  readonly autoIncrement: string | undefined;
  /** What the server says where it cannot open the table. */
  readonly trouble: string | undefined;
}

export interface SeenDatabase {
  readonly name: string;
  readonly tables: readonly SeenTable[];
}

/** What can be removed from a database. */
export interface DatabaseObject {
  readonly kind: 'table' | 'view' | 'procedure' | 'function' | 'event';
  readonly name: string;
}

/** What a database server says of itself and of one database. */
export interface SeenServer {
  /** As the server writes it. */
  readonly version: string;
  readonly charsets: readonly string[];
  readonly collations: readonly string[];
  /** The character set of the database. */
  readonly charset: string;
  /** The longest statement that it takes, in bytes. */
  readonly packet: number;
  readonly modes: readonly string[];
  /** Rights that a load needs and this user has not, by their SQL names. */
  readonly missingRights: readonly string[];
  /** Whether the account may work in other databases of the server too. */
  readonly reachesBeyond: boolean;
  /** Whether the server lets only its administrators make triggers and functions, for it keeps a binary log. */
  readonly deniesPrograms: boolean;
  readonly tables: readonly string[];
  /** The server's clock less this machine's, in seconds. */
  readonly skew: number;
}

/** Why a database could not be opened. */
export type RefusalKind = Extract<
  PorterError['kind'],
  'unreachable' | 'credentials' | 'no such database' | 'refused'
>;

/** The result of an edit. */
export interface EditCount {
  /** Rows that were changed or removed. */
  readonly rows: number;
  readonly changes: readonly RowChange[];
}

/** How far a load has come. */
export interface LoadPosition {
  /** The small table that says so. It is dropped at the end. */
  readonly note: string;
  /** Which dump is loaded: its SHA-256. */
  readonly dump: string;
  /** How many of its statements are done for good. */
  readonly done: number;
  /** The table that rows went into last, as bytes. */
  readonly table: string;
}

/** How a dump is loaded. */
export interface LoadOptions {
  readonly bench: Workbench;
  readonly server: SeenServer;
  readonly signal: AbortSignal;
  /** Bytes of the longest statement to send, where that is less than the server says. */
  readonly limit?: number;
  readonly progress?: (bytesRead: number) => void;
  /** Where the tables wait beside those whose places they take; left out where they are loaded in their place. */
  readonly staging?: Staging | undefined;
  /** Why a statement that names these may not be run; left out, every one may that only fills tables. */
  refuses?(named: Allowed): string | undefined;
}

/** The result of a load. */
export interface LoadDone {
  /** What was changed so that the server takes the dump, and how often. */
  readonly fitted: Fitted;
  readonly warnings: readonly LoadWarning[];
  /** Statements that do more than fill the site's tables, and were not run. */
  readonly leftOut: readonly RefusedStatement[];
}

/** What a server warned of while rows went in. */
export interface LoadWarning {
  readonly table: string;
  /** The server's number for it: https://mariadb.com/kb/en/mariadb-error-codes/ */
  readonly code: number;
  readonly message: string;
  count: number;
}

/** What is taken of a database. */
export interface SnapshotOptions {
  /** The character set in which the site itself speaks to its server, if it is known. */
  readonly charset: string | undefined;
  /** Which of the tables and views that are there are read. */
  choose(all: readonly SeenTable[]): readonly SeenTable[];
}

/** A database as it is at one moment. */
export interface DatabaseSnapshot {
  /** Views and programs that were not written, since they work with more than tables of their own database. */
  readonly leftOut: readonly { readonly what: string; readonly why: string }[];
  readonly tables: readonly SeenTable[];
  /** The tables that hold rows of their own. */
  readonly own: readonly SeenTable[];
  /** Tables of engines without transactions: they are read as they are when their turn comes. */
  readonly unsteady: readonly SeenTable[];
  /** Of how many moments the rows are that were read so far: one, unless the connection does not last. */
  readonly moments: number;
  /** The character set in which text is read and the dump is written. */
  readonly charset: string;
  /** Keeps others from writing to some tables until the snapshot is closed. @returns false where it may not */
  lock(tables: readonly SeenTable[]): Promise<boolean>;
  /** What a dump says before its first table. */
  head(taken: Date): Buffer;
  /** What a dump says after its last, without which it does not look whole. */
  tail(): Buffer;
  /** Says which tables will be written next, in order, so that they can be asked for together. */
  expect(tables: readonly { readonly table: SeenTable; readonly most?: number | undefined }[]): void;
  /** Writes how a table is made, and its rows. @returns how many rows */
  writeTable(table: SeenTable, sink: DumpSink, signal: AbortSignal, options?: TableOptions): Promise<number>;
  /** Writes triggers, routines, events and views, each after what it may need. */
  writePrograms(sink: DumpSink, also: AlsoTaken): Promise<void>;
  close(): Promise<void>;
}

/** Takes the bytes of a dump. */
export interface DumpSink {
  take(chunk: Buffer): void;
  /** Bytes that were taken and not passed on yet. */
  readonly waiting: number;
  /** Resolves when no more than so many bytes wait. */
  room(bytes: number): Promise<void>;
}

/** How a table is written. */
export interface TableOptions {
  readonly progress?: (rows: number) => void;
  /** No more rows than so many; 0 for none. */
  readonly most?: number | undefined;
}

/** What is taken besides tables and their triggers and views. */
export interface AlsoTaken {
  readonly routines: boolean;
  readonly events: boolean;
}
