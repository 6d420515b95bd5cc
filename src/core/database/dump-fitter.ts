import { asBytes, type ByteString, type Edit, type Stretch } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from '../sql/scanner.js';
import { type Fitted, fitStatement } from './fitting.js';
import type { KnownServer } from './known-servers.js';

/** Lets zero dates in, and ids of zero, as the dump programs themselves do. */
const plainMode = "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO';\n";

/**
 * Fits a dump that streams by to a server: statements by `fitStatement`, and rows cut into several INSERTs where one
 * would be longer than the server takes.
 */
export class DumpFitter implements DumpVisitor {
  readonly fitted: Fitted = new Map();
  /** Tables with a row that is too long on its own, and its bytes. */
  readonly tooLong = new Map<string, number>();
  private readonly server: KnownServer;
  private readonly scanner: DumpScanner;
  private modeSet = false;
  private table = '';
  private head = '';
  /** Bytes of the statement before those of `from` in the window. */
  private passed = 0;
  private from = 0;

  /** @param emit takes the fitted dump; leave it out to count only */
  constructor(bench: Workbench, server: KnownServer, emit?: (chunk: Buffer) => void) {
    this.server = server;
    this.scanner = new DumpScanner(bench, this, emit);
  }

  /** @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer): void {
    this.scanner.push(chunk);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  window(): void {
    this.from = 0;
  }

  insert({ table }: InsertHead, s: ByteString, start: number, end: number): readonly Edit[] | undefined {
    this.table = table;
    this.head = s.slice(start, end);
    this.passed = this.head.length;
    this.from = end;
    return this.beforeFirst(start, '');
  }

  row(end: number, { s }: Stretch): readonly Edit[] | undefined {
    const bytes = this.passed + end - this.from;
    const { packet } = this.server;
    if (bytes > packet) this.tooLong.set(this.table, Math.max(bytes, this.tooLong.get(this.table) ?? 0));
    // The next row is not known yet; a quarter is kept for it.
    if (bytes < packet * 0.75) return undefined;
    comma.lastIndex = end;
    const found = comma.exec(s);
    if (!found) return undefined;
    const at = comma.lastIndex;
    this.passed = this.head.length;
    this.from = at;
    this.fitted.set('INSERT cut between rows', (this.fitted.get('INSERT cut between rows') ?? 0) + 1);
    return [{ start: end, end: at, put: asBytes(`;\n${this.head}`) }];
  }

  rowBytes(_stretch: Stretch, _start: number, end: number): void {
    this.passed += end - this.from;
    this.from = end;
  }

  statement(s: ByteString, start: number, end: number): readonly Edit[] | undefined {
    const sql = asBytes(s.slice(start, end));
    if (/^(?:\/\*M?!\d*\s*)?set\b/i.test(sql)) {
      this.modeSet ||= /\bsql_mode\b/i.test(sql);
    } else {
      const first = this.beforeFirst(start, sql);
      if (first)
        return [
          { start, end, put: asBytes(first[0]!.put + fitStatement(sql, this.server.has, this.fitted)) },
        ];
    }
    const put = fitStatement(sql, this.server.has, this.fitted);
    return put === sql ? undefined : [{ start, end, put }];
  }

  /** The mode that the dump needs, where it has not set one before its first statement. */
  private beforeFirst(start: number, sql: string): readonly Edit[] | undefined {
    if (this.modeSet || /^(?:\/\*M?!\d*\s*)?(?:set|use|create\s+database|drop\s+database)\b/i.test(sql))
      return undefined;
    this.modeSet = true;
    this.fitted.set('SQL mode set for zero dates', 1);
    return [{ start, end: start, put: asBytes(plainMode) }];
  }
}

const comma = /\s*,/y;
