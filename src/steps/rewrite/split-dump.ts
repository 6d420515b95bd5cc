import { gzipSync } from 'node:zlib';
import { asBytes, bytesOfText, textOf } from '../../core/bytes.js';
import { type DumpPart, DumpParts } from '../../core/database/dump-parts.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Workbench } from '../../core/kernels/workbench.js';
import { sizeText } from '../../core/text/sizes.js';
import type { FilesEnd } from '../../ends/files/files-end.js';

/** One piece as it is in the folder. */
interface LaidPart {
  readonly name: string;
  readonly number: number;
  /** The piece with which one begins to load this one again. */
  readonly againFrom: number;
  readonly bytes: number;
  readonly rows: number;
  readonly tables: readonly string[];
}

/** Writes a dump into a folder as numbered pieces for a web panel, with a page that says how to load them. */
export class PartsFolder {
  readonly laid: LaidPart[] = [];
  private readonly end: FilesEnd;
  private readonly name: string;
  private readonly limit: number;
  private readonly waiting: DumpPart[] = [];
  private readonly parts: DumpParts;

  /** @param name what the names of the pieces begin with @param limit bytes of a piece */
  constructor(bench: Workbench, end: FilesEnd, name: string, limit: number) {
    this.end = end;
    this.name = name;
    this.limit = limit;
    this.parts = new DumpParts(
      bench,
      limit,
      bytes => gzipSync(bytes, { level: 6 }),
      part => this.waiting.push(part),
    );
  }

  /** @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer): void {
    this.parts.push(chunk);
  }

  /** Ends the last piece. @throws DamageError when the dump ends too early */
  finish(): void {
    this.parts.finish();
  }

  /** Writes the pieces that are whole. */
  async settle(): Promise<void> {
    for (let part = this.waiting.shift(); part; part = this.waiting.shift()) {
      const further = part.further > 0 ? String.fromCharCode(0x60 + part.further) : '';
      const name = `${this.name}.${String(part.number).padStart(3, '0')}${further}.sql.gz`;
      await this.end.write(bytesOfText(name), part.packed, { mode: 0o600, mtime: Date.now() });
      const { number, rows, againFrom } = part;
      const tables = part.tables.map(textOf);
      this.laid.push({ name, number, againFrom, bytes: part.packed.length, rows, tables });
    }
    this.laid.sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  /** Bytes of the largest piece. */
  get largest(): number {
    return Math.max(0, ...this.laid.map(({ bytes }) => bytes));
  }

  /**
   * Writes the page.
   * @param asked the limit as it was asked for
   * @param compare how to compare what was loaded
   */
  async writePage(asked: string, compare: string): Promise<void> {
    await this.end.write(asBytes('READ-ME-FIRST.txt'), Buffer.from(page(this.laid, asked, compare)));
  }

  /** @param place the folder, as the person knows it */
  findings(place: string, asked: string): Finding[] {
    return this.laid
      .filter(({ bytes }) => bytes > this.limit)
      .map(({ name, bytes }) =>
        finding({
          level: 'warn',
          code: 'part-too-large',
          place: `${place}/${name}`,
          what: `One row alone makes this piece ${sizeText(bytes)}, which is more than ${asked}`,
          remedy: 'Ask the host to load this one, or to raise the limit of the panel',
        }),
      );
  }
}

function page(parts: readonly LaidPart[], limit: string, compare: string): string {
  const nameOf = (number: number) => parts.find(one => one.number === number)?.name ?? '';
  const lines = parts.map(({ name, number, againFrom, bytes, rows, tables }) => {
    const some = tables.slice(0, 3).join(', ') + (tables.length > 3 ? ', …' : '');
    const what = number === 1 ? 'makes the tables' : `${rows} rows`;
    const again = againFrom < number ? `   (to load it again, begin with ${nameOf(againFrom)})` : '';
    return `  [ ] ${name}   ${sizeText(bytes)}   ${what}   ${some}${again}`;
  });
  const pieces = parts.length === 1 ? 'one piece' : `${parts.length} pieces`;
  return `The finished dump in ${pieces} of at most ${limit}, for the import page of a web panel.

1. Open the new database in the panel. It must be the one that the new configuration names. The first piece makes the
   tables below; if tables of these names are there, what is in them is lost.
2. Choose "Import" and load the pieces one after the other, in the order of their names. Each is packed with gzip; the
   panel unpacks it. Choose the format SQL and the character set utf-8, and leave everything else as it is.
3. Wait for each to end without an error before the next. If one stops half-way, load the same piece again; it does no
   harm to rows that are there already. Where the list says so, begin with an earlier one.
4. To start over, begin with the first piece.
5. ${compare}

${lines.join('\n')}
`;
}
