import { asBytes, type ByteString, bufferOf } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { type DumpStatement, DumpStatements } from './statements.js';

/** One packed piece of a dump that can be loaded on its own after those before it. */
export interface DumpPart {
  /** From 1. */
  readonly number: number;
  readonly packed: Buffer;
  /** The tables that it makes or fills. */
  readonly tables: readonly string[];
  readonly rows: number;
}

/** Bytes that a statement may have before packing, so that it can be put into any panel. */
const longestStatement = 256 * 1024;

/**
 * Cuts a dump into packed pieces under a limit, between statements or between rows. Each begins with the settings of
 * the session that the statements before it have made.
 */
export class DumpParts {
  /** Statements that a panel must not run, for they work on other databases, users or the server. */
  readonly leftOut: string[] = [];
  private readonly reader: DumpStatements;
  private readonly pack: (bytes: Buffer) => Buffer;
  private readonly take: (part: DumpPart) => void;
  private readonly limit: number;
  private readonly settings: ByteString[] = [];
  private lines: ByteString[] = [];
  private packedBytes = 0;
  private tables = new Set<string>();
  private rows = 0;
  private number = 0;

  /** @param limit bytes of a packed piece; one that holds a single longer row is longer */
  constructor(
    bench: Workbench,
    limit: number,
    pack: (bytes: Buffer) => Buffer,
    take: (part: DumpPart) => void,
  ) {
    this.limit = limit;
    this.pack = pack;
    this.take = take;
    this.reader = new DumpStatements(bench, Math.min(longestStatement, limit), statement =>
      this.add(statement),
    );
  }

  /** @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer): void {
    this.reader.push(chunk);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.reader.finish();
    this.end();
  }

  private add({ sql, kind, table, rows }: DumpStatement): void {
    if (kind === 'own') return;
    if (kind === 'elsewhere') {
      this.leftOut.push(sql.slice(0, 60));
      return;
    }
    const line = written(sql, kind);
    // Packed on its own it is never smaller than its share of the whole piece.
    const bytes = this.pack(bufferOf(line)).length;
    if (this.lines.length > 0 && this.packedBytes + bytes > this.limit) this.end();
    if (this.lines.length === 0) this.begin();
    this.lines.push(line);
    this.packedBytes += bytes;
    this.rows += rows;
    if (kind === 'session') this.settings.push(line);
    const made = /^create\s+table\s+(?:if\s+not\s+exists\s+)?`((?:[^`]|``)+)`/i.exec(sql.slice(0, 300))?.[1];
    for (const name of [table, made]) if (name) this.tables.add(name);
  }

  private begin(): void {
    this.number++;
    this.lines.push(
      asBytes(`-- Part ${this.number}, to be loaded after those before it\n`),
      ...this.settings,
    );
    this.packedBytes = this.pack(this.whole()).length;
  }

  private whole(): Buffer {
    return bufferOf(asBytes(this.lines.join('')));
  }

  private end(): void {
    if (this.lines.length === 0) return;
    this.take({
      number: this.number,
      packed: this.pack(this.whole()),
      tables: [...this.tables],
      rows: this.rows,
    });
    this.lines = [];
    this.tables.clear();
    this.rows = 0;
    this.packedBytes = 0;
  }
}

/** A statement as it is in a file; what has statements of its own in it gets a delimiter of its own. */
function written(sql: ByteString, kind: DumpStatement['kind']): ByteString {
  const holdsOthers =
    kind === 'structure' && sql.includes(';') && /\b(?:begin|trigger|procedure|function|event)\b/i.test(sql);
  return asBytes(holdsOthers ? `DELIMITER ;;\n${sql};;\nDELIMITER ;\n` : `${sql};\n`);
}
