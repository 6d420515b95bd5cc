import { mkdir } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { EndError } from '../../../core/errors.js';
import type { KeptBy } from '../../../core/journal.js';
import { counted } from '../../../core/text/numbers.js';
import type { DatabaseConnection, DatabaseEnd, SeenTable } from '../../../ends/database/database-end.js';
import { DumpWriter } from '../../../ends/database/dump/writer.js';
import { checksumOf } from '../../../ends/move-folder/crate-part.js';
import { whileDoing } from '../../../ends/system-errors.js';
import { ledgerOf } from '../../move/ledger.js';
import { noteDeed, type StepRun } from '../../move/step.js';

/** Keeps tables in a dump and drops them, where the new ones cannot be made ready beside them. Safe to repeat. */
export async function keepInDump(
  run: StepRun,
  database: DatabaseEnd,
  connection: DatabaseConnection,
  tables: readonly SeenTable[],
  { number, by }: { readonly number: number; readonly by: KeptBy },
): Promise<void> {
  if (tables.length === 0) return;
  const isKept = (await ledgerOf(run.move)).keepsakes
    .get(number)
    ?.data.some(one => one.kind === 'dump kept' && one.database === database.id);
  // What an interrupted run has kept is all; what it left is only to be dropped.
  if (isKept) return connection.drop(tables);
  const name = join('keepsake', String(number), 'database.sql.gz');
  const file = run.move.folder.at(name);
  run.events({
    type: 'message',
    text: `Keeping ${counted(tables.length, 'table')} of the new database in ${file}`,
  });
  await whileDoing(`Making ${dirname(file)}`, () => mkdir(dirname(file), { recursive: true, mode: 0o700 }));
  await writeKeepsake(run, database, tables, file);
  await noteDeed(run, 'deliver', {
    kind: 'dump kept',
    database: database.id,
    number,
    by,
    tables: tables.map(one => one.name),
    file: name,
    sha256: (await checksumOf(file)).sha256,
  });
  await connection.drop(tables);
}

async function writeKeepsake(
  run: StepRun,
  database: DatabaseEnd,
  tables: readonly SeenTable[],
  file: string,
): Promise<void> {
  const names = new Set(tables.map(({ name }) => name));
  const snapshot = await database.snapshot({
    charset: undefined,
    choose: all => all.filter(({ name }) => names.has(name)),
  });
  const writer = new DumpWriter(run.move.bench, file, { checksum: true });
  try {
    writer.take(snapshot.head(new Date()));
    snapshot.expect(snapshot.own.map(table => ({ table })));
    for (const table of snapshot.own) await snapshot.writeTable(table, writer, run.signal);
    await snapshot.writePrograms(writer, { routines: false, events: false });
    const [unkept] = snapshot.leftOut;
    if (unkept) {
      throw new EndError({
        doing: `Keeping ${unkept.what} of the new database`,
        cause: `it works with more than tables of its own database (${unkept.why})`,
        remedy: 'Nothing was changed. Save and remove it by hand, then deliver again',
      });
    }
    writer.take(snapshot.tail());
    await writer.finish();
  } catch (error) {
    await writer.discard();
    throw error;
  } finally {
    await snapshot.close().catch(() => {});
  }
}
