import { asBytes, type ByteString, type Edit } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { DumpScanner, type DumpVisitor, type Outlet } from '../sql/scanner.js';
import { type Fitted, fitStatement } from './fitting.js';

const nothing = { charsets: new Set<string>(), collations: new Set<string>() };

/** Passes on a dump without who defined its views and programs: an account with no special rights may not say it. */
export class DefinerFree implements DumpVisitor {
  readonly fitted: Fitted = new Map();
  private readonly scanner: DumpScanner;

  constructor(bench: Workbench, emit: Outlet) {
    this.scanner = new DumpScanner(bench, this, emit);
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  statement(s: ByteString, start: number, end: number): readonly Edit[] | undefined {
    const sql = asBytes(s.slice(start, end));
    if (!/\bDEFINER\s*=/i.test(sql)) return undefined;
    const put = fitStatement(sql, nothing, this.fitted, 'definer');
    return put === sql ? undefined : [{ start, end, put }];
  }
}
