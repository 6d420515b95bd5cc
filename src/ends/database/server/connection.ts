import { bytesOf, textOf } from '../../../core/bytes.js';
import type { RowsToPut } from '../../../core/database/row-changes.js';
import type { LaterStatement, RenamedConstraint } from '../../../core/database/staging.js';
import type { Condition, DataEdit } from '../../../core/site/data/data-edits.js';
import { type RowChange, whereSql } from '../../../core/site/data/row-edits.js';
import type { Column } from '../../../core/sql/column.js';
import { encodedSql, identifier, literal, sql } from '../../../core/sql/encoded-sql.js';
import type {
  DatabaseConnection,
  DatabaseObject,
  EditCount,
  ForeignKey,
  KeptOldRows,
  LoadDone,
  LoadOptions,
  LoadPosition,
  PrintedContent,
  Rename,
  SeenDatabase,
  SeenServer,
  SeenTable,
  StoredProgram,
} from '../database-end.js';
import { missingAbilities } from './abilities.js';
import { columnsOf, databasesSeen, keysOf, tablesOf, triggersOf } from './catalog.js';
import { changeRows } from './change-rows.js';
import { contentOf, eachRowOf } from './content.js';
import { carryOut } from './edits.js';
import { loadDump } from './load/load.js';
import { beginLoad, endLoad, positionOf } from './load/note.js';
import { serverOf } from './probe.js';
import { dropPrograms, makePrograms, programsOf, runLater } from './programs.js';
import type { ServerSaid } from './session/errors.js';
import type { DatabaseSession } from './session/session.js';
import { checksumsOf, definitionOf, foreignKeysOf, othersOf, renameAll, renameConstraint } from './swap.js';

/** A database over one session of the MySQL protocol. */
export class ServerConnection implements DatabaseConnection {
  private readonly session: DatabaseSession;
  private readonly own: () => readonly number[];

  /** @param own the numbers of this program's own sessions */
  constructor(session: DatabaseSession, own: () => readonly number[] = () => []) {
    this.session = session;
    this.own = own;
  }

  server(): Promise<SeenServer> {
    return serverOf(this.session, this.session.route.place.name);
  }

  databases(): Promise<SeenDatabase[]> {
    return databasesSeen(this.session);
  }

  tables(): Promise<SeenTable[]> {
    return tablesOf(this.session);
  }

  async columns(): Promise<ReadonlyMap<string, readonly Column[]>> {
    const all = await columnsOf(this.session);
    return new Map(
      [...all].map(([table, columns]) => [table, columns.filter(({ generated }) => !generated)]),
    );
  }

  async triggers(): Promise<string[]> {
    return (await triggersOf(this.session)).map(({ name }) => name);
  }

  keys(): Promise<ReadonlyMap<string, readonly string[]>> {
    return keysOf(this.session);
  }

  foreignKeys(): Promise<ForeignKey[]> {
    return foreignKeysOf(this.session);
  }

  renameConstraint(constraint: RenamedConstraint): Promise<void> {
    return renameConstraint(this.session, constraint);
  }

  constraintDefinition(table: string, name: string): Promise<string | undefined> {
    return definitionOf(this.session, table, name);
  }

  checksums(tables: readonly string[]): Promise<ReadonlyMap<string, string>> {
    return checksumsOf(this.session, tables);
  }

  async others(): Promise<number[]> {
    const own = new Set(this.own());
    return (await othersOf(this.session)).filter(number => !own.has(number));
  }

  rename(renames: readonly Rename[]): Promise<void> {
    return renameAll(this.session, renames);
  }

  programs(tables: ReadonlySet<string>, views: readonly string[]): Promise<StoredProgram[]> {
    return programsOf(this.session, tables, views);
  }

  dropPrograms(programs: readonly Pick<StoredProgram, 'kind' | 'name'>[]): Promise<void> {
    return dropPrograms(this.session, programs);
  }

  makePrograms(programs: readonly StoredProgram[]): Promise<void> {
    return makePrograms(this.session, programs);
  }

  changeRows(
    tables: readonly RowsToPut[],
    options: { readonly charset: string; readonly note: string; readonly keep: KeptOldRows },
  ): Promise<void> {
    return changeRows(this.session, tables, options);
  }

  runLater(statements: readonly LaterStatement[], server: SeenServer): ReturnType<typeof runLater> {
    return runLater(this.session, statements, server);
  }

  missingAbilities(): Promise<string[]> {
    return missingAbilities(this.session);
  }

  async cell(table: string, column: string, where: Condition): Promise<string | undefined> {
    let found: string | undefined;
    const statement = sql`SELECT ${identifier(column)} FROM ${identifier(table)}${whereSql([where])}`;
    try {
      await this.session.each(statement, ([cell]) => {
        if (cell) found = textOf(bytesOf(cell));
      });
    } catch (error) {
      // A table or column of that name is not there: the table is of something else.
      if (![1054, 1146].includes((error as ServerSaid).errno ?? 0)) throw error;
    }
    return found;
  }

  async speakAs({
    charset,
    timeZone,
  }: {
    readonly charset: string | undefined;
    readonly timeZone: string | undefined;
  }): Promise<void> {
    // A dump says it, and nobody may put anything else into a statement by it.
    const name = /^\w+$/.test(charset ?? '') ? charset! : 'utf8mb4';
    const zone = timeZone === undefined ? sql`` : sql`, SESSION time_zone = ${literal(timeZone)}`;
    await this.session.run(sql`SET NAMES ${encodedSql(name)}${zone}`);
  }

  content(table: string, columns: readonly Column[], key?: readonly string[]): Promise<PrintedContent> {
    return contentOf(this.session, table, columns, key);
  }

  eachRow(
    table: string,
    columns: readonly Column[],
    take: (cells: readonly (Buffer | null)[]) => void,
  ): Promise<void> {
    return eachRowOf(this.session, table, columns, take);
  }

  async drop(objects: readonly DatabaseObject[]): Promise<void> {
    if (objects.length === 0) return;
    await this.session.runAll(
      sql`SET FOREIGN_KEY_CHECKS = 0`,
      ...objects.map(
        ({ kind, name }) => sql`DROP ${encodedSql(kind.toUpperCase())} IF EXISTS ${identifier(name)}`,
      ),
    );
  }

  edit(
    edits: readonly DataEdit[],
    before: (changes: readonly RowChange[]) => Promise<void>,
  ): Promise<EditCount[]> {
    return carryOut(this.session, edits, before);
  }

  loadPosition(note: string): Promise<LoadPosition | undefined> {
    return positionOf(this.session, note);
  }

  beginLoad(note: string, dump: string): Promise<LoadPosition> {
    return beginLoad(this.session, note, dump);
  }

  load(file: string, position: LoadPosition, options: LoadOptions): Promise<LoadDone> {
    return loadDump(this.session, file, position, options);
  }

  endLoad(note: string): Promise<void> {
    return endLoad(this.session, note);
  }

  destroy(): void {
    this.session.destroy();
  }
}
