import { asBytes, type ByteString, type Stretch } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { quoteName } from './encoded-sql.js';
import type { Allowed } from './judge/judge.js';
import { DumpScanner, type DumpVisitor, type InsertHead, type RefusedStatement } from './scanner.js';
import { unquoteName } from './tokens.js';

/** One statement of a dump, to be sent to a server as it is. */
export interface DumpStatement {
  readonly sql: ByteString;
  readonly kind: StatementKind;
  /** The table whose rows it puts, changes or removes; empty for every other statement. */
  readonly table: string;
  /** Rows that it puts there. */
  readonly rows: number;
}

/**
 * What a statement is to a load: `rows` and other `data`; `structure`, which a server commits on its own; `session`,
 * which must be said again on a new connection; `own`, which the load does itself (transactions and locks).
 */
type StatementKind = 'rows' | 'data' | 'structure' | 'session' | 'own';

const kinds: readonly (readonly [RegExp, StatementKind])[] = [
  [/^set\b/i, 'session'],
  [/^(?:start\s+transaction|begin|commit|rollback|lock|unlock)\b/i, 'own'],
  [/^(?:insert|replace|update|delete)\b/i, 'data'],
];

function kindOf(bare: string): StatementKind {
  return kinds.find(([pattern]) => pattern.test(bare))?.[1] ?? 'structure';
}

/** The table of a statement on rows, with what may be before its name (such as IGNORE) skipped. */
const tableIn =
  /^(?:insert|replace|update|delete)(?:\s+(?:low_priority|high_priority|delayed|quick|ignore))*(?:\s+(?:into|from))?\s+(`(?:[^`]|``)+`|"(?:[^"]|"")+"|[\w$\x80-\xff]+)/i;

/** What else is asked of the statements of a dump. */
export interface StatementOptions {
  /** Gives a table another name in INSERTs of rows; undefined where it keeps its own. */
  rename?(table: string): string | undefined;
  /** Why a statement that names these may not be run; undefined where it may. */
  refuses?(named: Allowed): string | undefined;
  /** Receives a statement that is left out. */
  refused?(statement: RefusedStatement): void;
}

/**
 * Reads a dump as statements. An INSERT of many rows is cut between rows into several that are no longer than asked
 * for, unless one row alone is.
 */
export class DumpStatements implements DumpVisitor {
  private readonly scanner: DumpScanner;
  private readonly take: (statement: DumpStatement) => void;
  private readonly longest: number;
  private readonly options: StatementOptions;
  private head = '';
  private table = '';
  private text: string[] = [];
  private bytes = 0;
  private rows = 0;
  private ends: number[] = [];
  private inRows = false;

  /** @param longest bytes of a statement */
  constructor(
    bench: Workbench,
    longest: number,
    take: (statement: DumpStatement) => void,
    options: StatementOptions = {},
  ) {
    this.scanner = new DumpScanner(bench, this);
    this.longest = longest;
    this.take = take;
    this.options = options;
  }

  wanted(table: string): boolean | string {
    return this.options.refuses?.({ about: [table], isView: false, uses: [], refersTo: [] }) ?? true;
  }

  leavesOut(named: Allowed): boolean | string {
    return this.options.refuses?.(named) ?? false;
  }

  refused(statement: RefusedStatement): void {
    this.options.refused?.(statement);
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
    this.endRows();
  }

  insert({ table, nameStart, nameEnd }: InsertHead, s: ByteString, start: number, end: number): undefined {
    this.endRows();
    const name = this.options.rename?.(table);
    this.head =
      name === undefined
        ? s.slice(start, end)
        : s.slice(start, nameStart) + quoteName(name) + s.slice(nameEnd, end);
    this.table = name ?? table;
    this.inRows = true;
  }

  row(end: number): undefined {
    this.ends.push(end);
  }

  rowBytes({ s }: Stretch, start: number, end: number): void {
    let from = start;
    for (const rowEnd of this.ends) {
      this.add(s, from, rowEnd);
      from = rowEnd;
      this.rows++;
      if (this.bytes < this.longest) continue;
      this.flush();
    }
    this.ends = [];
    this.add(s, from, end);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    this.endRows();
    const sql = asBytes(s.slice(start, end));
    // Without what a versioned comment begins with.
    const bare = sql.slice(0, 400).replace(/^\/\*M?!\d*\s*/, '');
    const kind = kindOf(bare);
    const name = kind === 'data' ? tableIn.exec(bare)?.[1] : undefined;
    this.take({ sql, kind, table: name === undefined ? '' : unquoteName(name), rows: 0 });
  }

  private add(s: string, start: number, end: number): void {
    if (end === start) return;
    // The comma after the last row of the piece before.
    const from =
      this.text.length === 0 && /\s*,/y.test(s.slice(start, start + 8)) ? s.indexOf(',', start) + 1 : start;
    if (from >= end) return;
    this.text.push(s.slice(from, end));
    this.bytes += end - from;
  }

  private flush(): void {
    const { table, rows } = this;
    this.take({ sql: asBytes(this.head + this.text.join('')), kind: 'rows', table, rows });
    this.text = [];
    this.bytes = 0;
    this.rows = 0;
  }

  private endRows(): void {
    if (this.inRows && this.rows > 0) this.flush();
    this.inRows = false;
    this.text = [];
    this.bytes = 0;
  }
}
