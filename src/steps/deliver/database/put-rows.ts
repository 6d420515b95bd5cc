import { hash } from 'node:crypto';
import { mkdir, open, readFile, rename } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import type { ByteString } from '../../../core/bytes.js';
import type { DumpContent } from '../../../core/database/content/dump-content.js';
import { loadNoteName } from '../../../core/database/reserved-names.js';
import type { RowsToPut } from '../../../core/database/row-changes.js';
import { DamageError } from '../../../core/errors.js';
import type { KeptBy } from '../../../core/journal.js';
import type { Column } from '../../../core/sql/column.js';
import { type EncodedSql, encodedSql } from '../../../core/sql/encoded-sql.js';
import { DumpStatements } from '../../../core/sql/statements.js';
import type { DatabaseConnection, DatabaseEnd, KeptOldRows } from '../../../ends/database/database-end.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import { whileDoing } from '../../../ends/system-errors.js';
import type { KeptData } from '../../move/ledger.js';
import { noteDeed, type StepRun } from '../../move/step.js';

/** The last line of a file of rows, without the checksum of what is before it. */
const sumLine = '-- SHA-256 of all lines before this one: ';

type Speaks = Pick<DumpContent, 'charset' | 'timeZone'>;
type KeptRows = Extract<KeptData, { kind: 'rows kept' }>;

/** How rows are put. */
interface RowsWish {
  readonly step: 'deliver' | 'undo';
  /** The keepsake of what they were. */
  readonly number: number;
  readonly by: KeptBy;
  /** How many they are, for the list of what is kept. */
  readonly count: number;
  /** Nobody but deliveries of this move had written them. */
  readonly isSpare: boolean;
  /** The table that notes in the same transaction that it is done. */
  readonly note: string;
  readonly speaks: Speaks;
}

/** Changes the rows, and keeps what they were. Safe to repeat. */
export async function putRows(
  run: StepRun,
  database: DatabaseEnd,
  tables: readonly RowsToPut[],
  { step, number, by, count, isSpare, note, speaks }: RowsWish,
): Promise<void> {
  const file = join('keepsake', String(number), 'rows.sql');
  const keep = new RowsFile(run.move.folder.at(file), speaks);
  await noteDeed(run, step, {
    kind: 'rows kept',
    database: database.id,
    number,
    by,
    isSpare,
    rows: count,
    tables: tables.map(({ table }) => table),
    file,
  });
  await database.use(async connection => {
    await connection.speakAs(speaks);
    await connection.changeRows(tables, { charset: speaks.charset ?? 'utf8mb4', note, keep });
  });
}

/** Puts rows of a keepsake back; what they are now is kept under another number. Safe to repeat from any moment. */
export async function exchangeRows(
  run: StepRun,
  database: DatabaseEnd,
  { number, file, rows }: KeptRows,
  keeps: number,
): Promise<void> {
  const path = run.move.folder.at(file);
  const note = loadNoteName('undo');
  // The same rows may be kept twice in the life of a move; each time they are another restoration.
  const what = hash('sha256', `${number} ${await verifiedSum(path)}`);
  const isDone = await database.use(async connection => {
    const position = await connection.loadPosition(note);
    if (position?.dump === what) return position.done < 0;
    await connection.beginLoad(note, what);
    return false;
  });
  if (isDone) return;
  const { tables, speaks } = await database.use(connection => readKept(run, connection, path));
  const wish = {
    step: 'undo',
    by: 'undo',
    count: rows,
    isSpare: false,
    number: keeps,
    note,
    speaks,
  } as const;
  await putRows(run, database, tables, wish);
}

/** @throws DamageError where a file of rows is not as it was written */
async function verifiedSum(path: string): Promise<string> {
  const bytes = await whileDoing(`Reading ${path}`, () => readFile(path));
  const at = bytes.lastIndexOf(sumLine);
  const sum = bytes.toString('latin1', at + sumLine.length).trim();
  if (at >= 0 && sum === hash('sha256', bytes.subarray(0, at))) return sum;
  throw new DamageError({
    doing: `Restoring rows from ${path}`,
    cause: 'the file is not as it was written',
    remedy: 'Nothing was changed. Put it back from a backup of the move folder',
  });
}

/** Ends a restoration of rows that is noted as done. */
export async function endRows(database: DatabaseEnd): Promise<void> {
  await database.use(connection => connection.endLoad(loadNoteName('undo')));
}

/** Reads a file of rows that were kept. */
async function readKept(
  run: StepRun,
  connection: DatabaseConnection,
  path: string,
): Promise<{ tables: RowsToPut[]; speaks: Speaks }> {
  const columns = await connection.columns();
  const tables = new Map<string, { columns: readonly Column[]; where: EncodedSql[]; inserts: Buffer[] }>();
  let charset: string | undefined;
  let timeZone: string | undefined;
  const reader = new DumpStatements(run.move.bench, Number.POSITIVE_INFINITY, ({ sql, kind, table }) => {
    if (kind === 'session') {
      charset = /^SET NAMES (\w+)/.exec(sql)?.[1] ?? charset;
      timeZone = /^SET TIME_ZONE='([^']*)'/.exec(sql)?.[1] ?? timeZone;
      return;
    }
    const rows = tables.get(table) ?? { columns: columns.get(table) ?? [], where: [], inserts: [] };
    tables.set(table, rows);
    const where = conditionOf(sql);
    if (where === undefined) rows.inserts.push(Buffer.from(`${sql};\n`, 'latin1'));
    else rows.where.push(where);
  });
  await readDump(run.move.bench, path, reader, { signal: run.signal });
  return {
    tables: [...tables].map(([table, rows]) => ({ table, ...rows, proof: undefined })),
    speaks: { charset, timeZone },
  };
}

/** The condition of a statement that removes rows. */
function conditionOf(statement: ByteString): EncodedSql | undefined {
  const found = /^DELETE FROM `(?:[^`]|``)+` WHERE /.exec(statement);
  return found ? encodedSql(statement.slice(found[0].length)) : undefined;
}

/** What rows were, in a file that the owner alone can read. */
class RowsFile implements KeptOldRows {
  private readonly file: string;
  private readonly speaks: Speaks;
  private parts: Buffer[] = [];

  constructor(file: string, speaks: Speaks) {
    this.file = file;
    this.speaks = speaks;
  }

  async begin(): Promise<void> {
    this.parts = [];
    await whileDoing(`Making ${dirname(this.file)}`, () =>
      mkdir(dirname(this.file), { recursive: true, mode: 0o700 }),
    );
  }

  take(statements: Buffer): void {
    this.parts.push(statements);
  }

  async finish(): Promise<void> {
    const { charset = 'utf8mb4', timeZone } = this.speaks;
    const zone = timeZone === undefined ? '' : `SET TIME_ZONE='${timeZone}';\n`;
    const head = `-- What rows were before a delivery changed them.\nSET NAMES ${charset};\n${zone}SET SQL_MODE='NO_AUTO_VALUE_ON_ZERO';\nSET FOREIGN_KEY_CHECKS=0;\n`;
    await whileDoing(`Writing ${this.file}`, async () => {
      const handle = await open(`${this.file}.partial`, 'w', 0o600);
      try {
        const whole = Buffer.concat([Buffer.from(head), ...this.parts]);
        await handle.writeFile(Buffer.concat([whole, Buffer.from(`${sumLine}${hash('sha256', whole)}\n`)]));
        await handle.sync();
      } finally {
        await handle.close();
      }
      await rename(`${this.file}.partial`, this.file);
    });
  }
}
