import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, readdir, rename, rm, stat } from 'node:fs/promises';
import { basename, join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { shownDatabase } from '../core/database/place.js';
import { EndError, UsageError } from '../core/errors.js';
import type { Finding } from '../core/findings.js';
import { globPattern } from '../core/rewrite/globs.js';
import { type CratePart, takenDump } from '../ends/crate.js';
import { bytes, type SeenTable } from '../ends/database/catalog.js';
import { DumpWriter } from '../ends/database/dump-writer.js';
import { asDatabaseTrouble } from '../ends/database/session.js';
import { Snapshot } from '../ends/database/snapshot.js';
import { writeWhole } from '../ends/move-folder.js';
import { telling } from '../ends/trouble.js';
import type { OldDatabase } from './databases.js';
import type { StepRun } from './run.js';

/** What was taken of a live database. */
export interface TakenDatabase {
  readonly part: CratePart;
  readonly tables: readonly { readonly table: string; readonly rows: number }[];
  readonly charset: string;
  readonly findings: readonly Finding[];
}

/** A piece of the dump that an earlier run made and that is whole. */
interface Piece {
  readonly file: string;
  readonly bytes: number;
  readonly rows: number;
  /** When its snapshot was opened, ISO 8601. */
  readonly of: string;
}

/** Pieces by table, of one database. */
interface Pieces {
  readonly database: string;
  readonly charset: string;
  readonly tables: Record<string, Piece>;
}

/** So old may a piece be that a broken-off run left, in milliseconds; the site goes on writing meanwhile. */
const oldestPiece = 60 * 60 * 1000;

/**
 * Takes the old database from its server into the crate: each table as a piece of its own, put together when all are
 * there. A run that is broken off goes on at the table where it was.
 */
export async function takeLiveDatabase(run: StepRun, { way, charset }: OldDatabase): Promise<TakenDatabase> {
  const { crate, sheet } = run.move;
  const wish = sheet.take.database === false ? undefined : sheet.take.database;
  const without = (wish?.tables.without ?? []).map(globPattern);
  const folder = crate.at('taking');
  const doing = `Taking the database ${shownDatabase(way.place)}`;
  const snapshot = await Snapshot.open(way, charset, () => true);
  try {
    await telling(`Making the crate ${crate.folder}`, () => mkdir(folder, { recursive: true }));
    const at = new Date();
    const findings = await unsteadyFindings(
      snapshot,
      wish?.['without-transactions'] ?? 'lock',
      way.place.name,
    );
    refuseCrashed(snapshot.own, doing);
    const pieces = await leftPieces(folder, shownDatabase(way.place), snapshot.charset, run.again === true);
    const all = snapshot.own.reduce((sum, { rows }) => sum + rows, 0);
    let before = 0;
    const names: string[] = [];
    await writePiece(join(folder, 'head.sql.gz'), async writer => writer.take(snapshot.head(at)));
    for (const table of snapshot.own) {
      run.signal.throwIfAborted();
      // By the table's name, so that a piece that is kept never has the place of another.
      const file = `${createHash('sha256').update(table.name).digest('hex').slice(0, 24)}.sql.gz`;
      const kept = pieces.tables[table.name];
      if (kept) {
        names.push(kept.file);
        before += kept.rows;
        continue;
      }
      let rows = 0;
      const progress = (done: number) =>
        run.events({
          type: 'progress',
          what: table.name,
          done: before + done,
          of: Math.max(all, before + done),
          unit: 'rows',
        });
      const structureOnly = without.some(one => one.test(table.name));
      const written = await writePiece(join(folder, file), async writer => {
        rows = await snapshot.writeTable(table, writer, run.signal, {
          progress,
          most: structureOnly ? 0 : undefined,
        });
      });
      pieces.tables[table.name] = { file, ...written, rows, of: at.toISOString() };
      await writeWhole(join(folder, 'pieces.json'), JSON.stringify(pieces));
      names.push(file);
      before += rows;
      progress(0);
    }
    await writePiece(join(folder, 'rest.sql.gz'), async writer => {
      await snapshot.writeRest(writer, { routines: wish?.routines === true, events: wish?.events === true });
      writer.take(snapshot.tail());
    });
    findings.push(...twoMoments(pieces, snapshot.own, way.place.name));
    const part = await joined(folder, ['head.sql.gz', ...names, 'rest.sql.gz'], crate.at(takenDump));
    await rm(folder, { recursive: true });
    const tables = snapshot.own.map(({ name }) => ({ table: bytes(name), rows: pieces.tables[name]!.rows }));
    return { part, tables, charset: snapshot.charset, findings };
  } catch (error) {
    run.signal.throwIfAborted();
    throw asDatabaseTrouble(error, doing);
  } finally {
    await snapshot.close().catch(() => {});
  }
}

/** Writes a piece of the dump; nothing bears its name before it is whole. */
async function writePiece(
  file: string,
  write: (writer: DumpWriter) => Promise<void>,
): Promise<{ bytes: number }> {
  const writer = new DumpWriter(file, { checksum: false });
  try {
    await write(writer);
    await writer.finish();
    return { bytes: (await stat(file)).size };
  } catch (error) {
    await writer.discard();
    throw error;
  }
}

/** Pieces that a broken-off run of a short while ago left, and that are whole. */
async function leftPieces(folder: string, database: string, charset: string, anew: boolean): Promise<Pieces> {
  const none: Pieces = { database, charset, tables: {} };
  const left = anew ? undefined : await readPieces(join(folder, 'pieces.json'));
  if (left?.database === database && left.charset === charset) {
    for (const [table, piece] of Object.entries(left.tables)) {
      const age = Date.now() - Date.parse(piece.of);
      // It bears its name only since it is whole and on the disk.
      const found = await stat(join(folder, basename(piece.file))).catch(() => undefined);
      if (age < oldestPiece && found?.size === piece.bytes) none.tables[table] = piece;
    }
  }
  const keep = new Set(Object.values(none.tables).map(({ file }) => file));
  for (const name of await readdir(folder))
    if (!keep.has(name)) await rm(join(folder, name), { force: true });
  if (keep.size > 0) await writeWhole(join(folder, 'pieces.json'), JSON.stringify(none));
  return none;
}

async function readPieces(file: string): Promise<Pieces | undefined> {
  try {
    const chunks: Buffer[] = [];
    for await (const chunk of createReadStream(file)) chunks.push(chunk as Buffer);
    return JSON.parse(Buffer.concat(chunks).toString()) as Pieces;
  } catch {
    return undefined;
  }
}

/** Puts the pieces together: one gzip file after another is a gzip file (RFC 1952, section 2.2). */
async function joined(folder: string, names: readonly string[], to: string): Promise<CratePart> {
  return telling(`Writing ${to}`, async () => {
    const hash = createHash('sha256');
    let bytes = 0;
    const pieces = async function* () {
      for (const name of names) {
        for await (const chunk of createReadStream(join(folder, name), { highWaterMark: 1 << 20 })) {
          hash.update(chunk as Buffer);
          bytes += (chunk as Buffer).length;
          yield chunk;
        }
      }
    };
    await pipeline(pieces, createWriteStream(`${to}.partial`, { highWaterMark: 1 << 20 }));
    await rename(`${to}.partial`, to);
    return { bytes, sha256: hash.digest('hex') };
  });
}

/** What is done about tables that no transaction holds still, and what is told of it. */
async function unsteadyFindings(
  snapshot: Snapshot,
  wish: 'lock' | 'read' | 'refuse',
  database: string,
): Promise<Finding[]> {
  const tables = snapshot.unsteady;
  if (tables.length === 0) return [];
  const some = tables.slice(0, 4).map(({ name, engine }) => `${name} (${engine})`);
  const names = some.join(', ') + (tables.length > 4 ? ', …' : '');
  if (wish === 'refuse') {
    throw new UsageError({
      doing: `Taking the database ${database}`,
      cause: `tables are kept without transactions, which the sheet refuses: ${names}`,
      remedy: 'Allow take.database.without-transactions: lock or read, or convert them at the old site',
    });
  }
  const locked = wish === 'lock' && (await snapshot.lock(tables));
  return [
    {
      level: locked ? 'note' : 'warn',
      code: 'tables-without-transactions',
      place: database,
      what: locked
        ? `Nobody could write to these while they were read, for they are kept without transactions: ${names}`
        : `These are kept without transactions and could be written to while they were read: ${names}`,
      remedy: locked
        ? 'Nothing needs to be done'
        : 'Put the old site into maintenance mode and pack again with --again before the cutover',
    },
  ];
}

/** A broken-off taking that was gone on with has tables of two moments. */
function twoMoments(pieces: Pieces, tables: readonly SeenTable[], database: string): Finding[] {
  const moments = [...new Set(tables.map(({ name }) => pieces.tables[name]?.of ?? ''))]
    .filter(Boolean)
    .sort();
  if (moments.length < 2) return [];
  const shown = (moment: string) => moment.slice(11, 19);
  return [
    {
      level: 'note',
      code: 'database-of-two-moments',
      place: database,
      what: `The taking was broken off and gone on with: some tables are as they were at ${shown(moments[0]!)}, others as at ${shown(moments.at(-1)!)} UTC`,
      remedy: 'If somebody wrote to the site meanwhile, take all anew with "able-porter pack --again"',
    },
  ];
}

function refuseCrashed(tables: readonly SeenTable[], doing: string): void {
  const crashed = tables.find(({ trouble }) => trouble !== undefined);
  if (!crashed) return;
  throw new EndError({
    doing,
    cause: `the table ${crashed.name} cannot be opened: ${crashed.trouble}`,
    remedy: `Repair it at the old host (REPAIR TABLE ${crashed.name}), or drop it if nothing needs it`,
  });
}
