import { gzipSync } from 'node:zlib';
import { asBytes, bytesOfText, textOf } from '../core/bytes.js';
import type { Finding } from '../core/findings.js';
import { parseSize, sizeText } from '../core/sizes.js';
import { type DumpPart, DumpParts } from '../core/sql/parts.js';
import { readDump } from '../ends/database/dump-reader.js';
import { placeAbove, placeBelow, placeName } from '../ends/files/place.js';
import type { Move } from './move.js';
import { movedDump } from './rewrite.js';
import type { StepRun } from './run.js';
import { openIncoming, type Spot, spotOf } from './spots.js';

/** The pieces of the finished dump for a web panel. */
export interface LaidParts {
  readonly folder: string;
  readonly count: number;
  /** Bytes of the largest. */
  readonly largest: number;
}

/** The folder of the pieces, beside the finished dump. */
export function partsPlace({ newDump, sheet }: Move): string | undefined {
  if (newDump === undefined || sheet.new.database?.parts === undefined) return undefined;
  return placeBelow(placeAbove(newDump), `${placeName(newDump).replace(/\.sql(?:\.gz)?$/, '')}.parts`);
}

/**
 * Cuts the finished dump into numbered pieces under the panel's limit, with a page that says how to load them.
 * @param tail statements after the dump
 */
export async function layParts(
  run: StepRun,
  place: string,
  tail: Buffer,
): Promise<{ spot: Spot; parts: LaidParts; findings: Finding[] }> {
  const { move } = run;
  const asked = String(move.sheet.new.database!.parts);
  const limit = parseSize(asked, 'new.database.parts');
  const spot = spotOf(move, place, new Set());
  await spot.end.remove(spot.incoming);
  await spot.end.makeFolder(spot.incoming, 0o755);
  const end = openIncoming(spot);
  const waiting: DumpPart[] = [];
  const parts = new DumpParts(
    limit,
    bytes => gzipSync(bytes, { level: 6 }),
    part => waiting.push(part),
  );
  const laid: { name: string; bytes: number; rows: number; tables: readonly string[] }[] = [];
  const write = async () => {
    for (let part = waiting.shift(); part; part = waiting.shift()) {
      const name = `${placeName(place).replace(/\.parts$/, '')}.${String(part.number).padStart(3, '0')}.sql.gz`;
      await end.write(bytesOfText(name), part.packed);
      laid.push({ name, bytes: part.packed.length, rows: part.rows, tables: part.tables.map(textOf) });
    }
  };
  const whole = {
    push: (chunk: Buffer) => parts.push(chunk),
    finish: () => {
      if (tail.length > 0) parts.push(tail);
      parts.finish();
    },
  };
  await readDump(move.crate.at(movedDump), whole, { signal: run.signal, after: write });
  await write();
  await end.write(asBytes('READ-ME-FIRST.txt'), Buffer.from(page(laid, asked)));
  const largest = Math.max(0, ...laid.map(({ bytes }) => bytes));
  const findings: Finding[] = laid
    .filter(({ bytes }) => bytes > limit)
    .map(({ name, bytes }) => ({
      level: 'warn' as const,
      code: 'part-too-large' as const,
      place: `${place}/${name}`,
      what: `One row alone makes this piece ${sizeText(bytes)}, which is more than ${asked}`,
      remedy: 'Ask the host to load this one, or to raise the limit of the panel',
    }));
  return { spot, parts: { folder: place, count: laid.length, largest }, findings };
}

function page(
  parts: readonly { name: string; bytes: number; rows: number; tables: readonly string[] }[],
  limit: string,
): string {
  const lines = parts.map(({ name, bytes, rows, tables }) => {
    const some = tables.slice(0, 3).join(', ') + (tables.length > 3 ? ', …' : '');
    return `  [ ] ${name}   ${sizeText(bytes)}   ${rows} rows   ${some}`;
  });
  return `The finished dump in ${parts.length} pieces of at most ${limit}, for the import page of a web panel.

1. Open the new database in the panel. It must be the one that the new configuration names, and empty of the tables
   below; what stands in them is dropped by the first piece that makes them.
2. Choose "Import" and load the pieces one after the other, in the order of their numbers. Each is packed with gzip;
   the panel unpacks it by itself. Let it take the format SQL and the character set utf-8, and change nothing else.
3. Wait for each to end without an error before the next. If one stops half-way, load the same piece again only after
   dropping the tables that it makes; the pieces before it stay good.
4. When all are in, export the whole database from the panel (format SQL, also packed) and compare it:
   able-porter check --export FILE

${lines.join('\n')}
`;
}
