import { asBytes, type ByteString, bufferOf } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { readCreateTable } from '../sql/create-table.js';
import { quoteName } from '../sql/encoded-sql.js';
import { type DumpStatement, DumpStatements } from '../sql/statements.js';
import { subjectOf } from '../sql/subject.js';

/** One packed piece of a dump. */
export interface DumpPart {
  /** From 1; the first makes the tables, and may be several. */
  readonly number: number;
  /** Which of several first pieces it is, from 0. */
  readonly further: number;
  readonly packed: Buffer;
  /** The tables that it makes or fills. */
  readonly tables: readonly string[];
  readonly rows: number;
  /** The piece with which one begins to load this one again; its own number, but for a table without a key in several pieces. */
  readonly againFrom: number;
}

/** Bytes that a statement may have before packing, so that it can be put into any panel. */
const longestStatement = 256 * 1024;

/** A piece that is being filled. */
interface Filling {
  lines: ByteString[];
  bytes: number;
  readonly tables: Set<string>;
  rows: number;
  againFrom: number;
}

/** A statement that is put into a piece later than it was read, with the session settings it was read under. */
interface Held {
  readonly line: ByteString;
  /** The settings between the one held before it in the same list and it. */
  readonly since: readonly ByteString[];
  /** How many settings were read before it. */
  readonly read: number;
  /** The settings that a piece which begins with it needs. */
  readonly settings: readonly ByteString[];
}

/**
 * Cuts a dump into packed pieces under a limit, between statements or between rows. The first piece makes all tables, those
 * after it fill them, and the last makes views and programs. But for the first, each can be loaded again and does no harm: rows
 * replace themselves by their keys; a table without a key is emptied where its rows begin.
 */
export class DumpParts {
  private readonly reader: DumpStatements;
  private readonly pack: (bytes: Buffer) => Buffer;
  private readonly take: (part: DumpPart) => void;
  private readonly limit: number;
  /** The session settings so far. Of equal ones the first, so that what is saved is there to be restored, and the last. */
  private settings: readonly ByteString[] = [];
  /** Every session setting as it was read. */
  private readonly read: ByteString[] = [];
  private readonly structure: Held[] = [];
  private readonly made: string[] = [];
  private readonly programs: Held[] = [];
  private readonly keyed = new Set<string>();
  private readonly begun = new Map<string, number>();
  private filling: Filling | undefined;
  private number = 1;

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
    for (const { line, since, settings } of this.programs) {
      this.settings = settings;
      for (const setting of since) this.put(setting, undefined, 0);
      this.put(line, undefined, 0);
    }
    this.end();
    this.takeStructure();
  }

  private add({ sql, kind, table, rows }: DumpStatement): void {
    if (kind === 'own') return;
    if (kind === 'session') {
      const line = asBytes(`${sql};\n`);
      const { settings } = this;
      const first = settings.indexOf(line);
      this.settings = [...settings.filter((other, at) => other !== line || at === first), line];
      this.read.push(line);
      if (this.filling) this.put(line, undefined, 0);
      return;
    }
    if (kind === 'structure') {
      this.addStructure(sql);
      return;
    }
    if (kind === 'rows' || /^(?:insert|replace)\b/i.test(sql)) this.beginTable(table);
    this.put(
      asBytes(`${sql.replace(/^insert\s+(?:ignore\s+)?(?:into\s+)?/i, 'REPLACE INTO ')};\n`),
      table,
      rows,
    );
  }

  private addStructure(sql: ByteString): void {
    const subject = subjectOf(sql);
    if (subject && subject.kind !== 'table') {
      this.hold(
        this.programs,
        subject.kind === 'view' ? `${sql};\n` : `DELIMITER ;;\n${sql};;\nDELIMITER ;\n`,
      );
      return;
    }
    if (/\b(?:EN|DIS)ABLE\s+KEYS\b/i.test(sql)) return;
    const shape = readCreateTable(sql);
    const [name] = shape ? [shape.name] : (subject?.names ?? []);
    if (name !== undefined && !this.made.includes(name)) this.made.push(name);
    if (shape && /\b(?:PRIMARY|UNIQUE)\s+KEY\b/i.test(sql)) this.keyed.add(shape.name);
    this.hold(this.structure, `${sql};\n`);
  }

  private hold(list: Held[], line: string): void {
    const { settings, read } = this;
    const since = read.slice(list.at(-1)?.read ?? 0);
    list.push({ line: asBytes(line), since, read: read.length, settings });
  }

  /** A table without a key begins with a piece of its own, which empties it: loaded again, its rows would be there twice. */
  private beginTable(table: string): void {
    if (this.begun.has(table)) return;
    if (!this.keyed.has(table)) {
      this.end();
      this.begin();
      this.begun.set(table, this.number);
      this.put(asBytes(`TRUNCATE TABLE ${quoteName(table)};\n`), table, 0);
    } else this.begun.set(table, this.number + (this.filling ? 0 : 1));
  }

  private put(line: ByteString, table: string | undefined, rows: number): void {
    // Packed on its own it is never smaller than its share of the whole piece.
    const bytes = this.pack(bufferOf(line)).length;
    if (this.filling && this.filling.bytes + bytes > this.limit) this.end();
    const filling = this.filling ?? this.begin();
    filling.lines.push(line);
    filling.bytes += bytes;
    filling.rows += rows;
    if (table === undefined || table === '') return;
    filling.tables.add(table);
    const first = this.begun.get(table);
    if (first !== undefined && !this.keyed.has(table)) filling.againFrom = Math.min(filling.againFrom, first);
  }

  private begin(): Filling {
    this.number++;
    const lines = [
      asBytes(`-- Piece ${this.number}, to be loaded after those before it\n`),
      ...this.settings,
    ];
    const bytes = this.pack(wholeOf(lines)).length;
    this.filling = { lines, bytes, tables: new Set(), rows: 0, againFrom: this.number };
    return this.filling;
  }

  private end(): void {
    const { filling, number } = this;
    this.filling = undefined;
    if (!filling) return;
    const { lines, tables, rows, againFrom } = filling;
    this.take({
      number,
      further: 0,
      packed: this.pack(wholeOf(lines)),
      tables: [...tables],
      rows,
      againFrom,
    });
  }

  /** The first piece, or several where it would be too long. */
  private takeStructure(): void {
    const title = asBytes('-- Piece 1, which makes the tables: what is in them is lost\n');
    const pieces: ByteString[][] = [];
    let bytes = 0;
    for (const { line, since, settings } of this.structure) {
      const more = this.pack(wholeOf([...since, line])).length;
      const last = pieces.at(-1);
      if (last && bytes + more <= this.limit) {
        last.push(...since, line);
        bytes += more;
      } else {
        pieces.push([title, ...settings, line]);
        bytes = this.pack(wholeOf([title, ...settings, line])).length;
      }
    }
    for (const [further, lines] of pieces.entries())
      this.take({
        number: 1,
        further,
        packed: this.pack(wholeOf(lines)),
        tables: this.made,
        rows: 0,
        againFrom: 1,
      });
  }
}

function wholeOf(lines: readonly ByteString[]): Buffer {
  return bufferOf(asBytes(lines.join('')));
}
