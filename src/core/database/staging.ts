import { applyEdits, asBytes, type ByteString, bytesOfText, type Edit, textOf } from '../bytes.js';
import { readCreateTable } from '../sql/create-table.js';
import { quoteName } from '../sql/encoded-sql.js';
import { subjectOf } from '../sql/subject.js';
import { renameTables } from '../sql/table-names.js';
import { reservedConstraint, stagedName } from './reserved-names.js';

/** A constraint that waits under another name, since a table that is there has its own. */
export interface RenamedConstraint {
  readonly table: string;
  /** The name that it is to have. */
  readonly name: string;
  /** The name that it has until then. */
  readonly now: string;
  /** What it says after its name, as bytes: `FOREIGN KEY … REFERENCES …`. */
  readonly definition: string;
}

/** A statement for later: a view or program, or a setting of the session that one needs. */
export interface LaterStatement {
  readonly sql: ByteString;
  readonly isSetting: boolean;
}

const constraint = /\bCONSTRAINT\s+`((?:[^`]|``)+)`\s+(FOREIGN\s+KEY\b(?:[^,()]|\([^()]*\))*)/gi;

/**
 * How a dump is loaded beside the tables whose places its own are to take: each table under a staging name, constraints
 * under names that are free, and views and programs, which name the final tables, later.
 */
export class Staging {
  /** Views and programs, and the settings before them, in the order of the dump. */
  readonly later: LaterStatement[] = [];
  /** Constraints that get their names once the tables are in their place. */
  readonly constraints: RenamedConstraint[] = [];
  private readonly tables: ReadonlyMap<string, string>;
  private readonly taken: ReadonlySet<string>;
  /** Whether only some of the dump's tables are loaded, and nothing besides. */
  private readonly isPartial: boolean;

  /**
   * @param tables that are loaded
   * @param taken names of constraints that tables of the database have
   * @param isPartial whether they are not all of the dump: what is about others is left out, views and programs too
   */
  constructor(tables: readonly string[], taken: Iterable<string>, isPartial = false) {
    this.isPartial = isPartial;
    this.tables = new Map(tables.map(table => [table, stagedName(table)]));
    this.taken = new Set([...taken].map(name => name.toLowerCase()));
  }

  /** The name under which a table waits. */
  of(table: string): string {
    return this.tables.get(table) ?? table;
  }

  /** The table that waits under a name; a name that is none of ours as it is. */
  final(staged: string): string {
    for (const [table, name] of this.tables) if (name === staged) return table;
    return staged;
  }

  /** The staging name of a table that is loaded, both as bytes. */
  readonly rename = (table: string): string | undefined => {
    const staged = this.tables.get(textOf(table));
    return staged === undefined ? undefined : bytesOfText(staged);
  };

  /** Notes a setting of the session. */
  setting(sql: ByteString): void {
    this.later.push({ sql, isSetting: true });
  }

  /** A statement of structure as it is run now; undefined where it is for later, or is not needed. */
  structure(sql: ByteString): ByteString | undefined {
    const subject = subjectOf(sql);
    if (this.isPartial && !subject?.names.some(name => this.tables.has(textOf(name)))) return undefined;
    if (subject && subject.kind !== 'table') {
      if (this.isPartial) return undefined;
      // What is there is removed by who puts the new in its place.
      if (subject.verb !== 'drop') this.later.push({ sql, isSetting: false });
      else this.forget(subject.kind, subject.names);
      return undefined;
    }
    const edits = renameTables(sql, 0, sql.length, this.rename);
    return applyEdits(
      sql,
      [...edits, ...this.constraintEdits(sql)].sort((a, b) => a.start - b.start),
    );
  }

  /** Whether rows of a table are loaded. @param table its staging name, or that of one that does not wait, as bytes */
  takesRows(table: string): boolean {
    return !this.isPartial || this.final(textOf(table)) !== textOf(table);
  }

  /** A statement that changes rows; undefined where it is about a table that is not loaded. */
  data(sql: ByteString): ByteString | undefined {
    if (this.isPartial && !subjectOf(sql)?.names.some(name => this.tables.has(textOf(name))))
      return undefined;
    return applyEdits(sql, renameTables(sql, 0, sql.length, this.rename));
  }

  /** What was to be made and is removed again: a dump program's stand-in for a view. */
  private forget(kind: string, names: readonly string[]): void {
    for (let i = this.later.length - 1; i >= 0; i--) {
      const { sql, isSetting } = this.later[i]!;
      const subject = isSetting ? undefined : subjectOf(sql);
      if (subject?.kind === kind && subject.names.some(name => names.includes(name))) this.later.splice(i, 1);
    }
  }

  private constraintEdits(sql: ByteString): Edit[] {
    const table = readCreateTable(sql)?.name ?? subjectOf(sql)?.names[0];
    if (table === undefined) return [];
    const edits: Edit[] = [];
    for (const found of sql.matchAll(constraint)) {
      const name = textOf(found[1]!.replaceAll('``', '`'));
      if (!this.taken.has(name.toLowerCase())) continue;
      const now = reservedConstraint(textOf(table), name);
      this.constraints.push({ table: textOf(table), name, now, definition: found[2]!.trimEnd() });
      const start = found.index + found[0].indexOf('`');
      edits.push({ start, end: start + found[1]!.length + 2, put: asBytes(quoteName(now)) });
    }
    return edits;
  }
}
