import type { TableContent } from '../../../core/database/content-digest.js';
import { DumpContent, type Program } from '../../../core/database/dump-content.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { Column } from '../../../core/sql/column.js';
import type { DatabaseConnection, DatabaseEnd } from '../../../ends/database/database-end.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { CratePart } from '../../../ends/move-folder/crate-part.js';
import type { StepRun } from '../../move/step.js';

/** A table as it was read back from the new server, beside what the dump says. */
export interface TableProof {
  readonly table: string;
  readonly rows: number;
  readonly expected: number;
  readonly equal: boolean;
  /** Whether its content could be compared, and not its rows alone. */
  readonly compared: boolean;
  /** Of its rows once the site's edits were made; a later look is compared with it. */
  readonly digest: string;
  /** Rows that these edits removed. */
  readonly taken?: number;
}

/** What was read back of a load before the site's edits, kept so that an interrupted delivery need not read all again. */
export interface Proof {
  readonly dump: string;
  readonly tables: readonly TableProof[];
  readonly programs: readonly Program[];
}

const proofFile = 'results/loaded.json';

/** Forgets what was read back of an earlier load: it says nothing about the next. */
export async function forgetProof({ move }: StepRun): Promise<void> {
  await move.folder.write(proofFile, '{}');
}

/** Reads every table back and compares it with the dump, unless that was done for this load before. */
export async function verifyLoad(run: StepRun, database: DatabaseEnd, part: CratePart): Promise<Proof> {
  const { folder, crate } = run.move;
  const before = JSON.parse((await folder.read(proofFile)) ?? '{}') as Partial<Proof>;
  if (before.dump === part.sha256 && before.tables && before.programs)
    return { dump: before.dump, tables: before.tables, programs: before.programs };
  const columns = await database.use(connection => connection.columns());
  const expected = new DumpContent(run.move.bench, columns);
  const progress = (done: number) =>
    run.events({ type: 'progress', what: 'reading the dump again', done, of: part.bytes, unit: 'bytes' });
  await readDump(run.move.bench, crate.at(movedDump), expected, { signal: run.signal, progress });
  const tables: TableProof[] = [];
  const wanted = [...expected.contents()];
  await database.use(async connection => {
    await connection.speakAs(expected);
    for (const [i, [table, content]] of wanted.entries()) {
      run.signal.throwIfAborted();
      run.events({ type: 'progress', what: table, done: i, of: wanted.length, unit: 'tables' });
      tables.push(await proofOf(connection, table, columns.get(table), content));
    }
  });
  const proof: Proof = { dump: part.sha256, tables, programs: expected.programs };
  await folder.write(proofFile, JSON.stringify(proof));
  return proof;
}

async function proofOf(
  connection: DatabaseConnection,
  table: string,
  columns: readonly Column[] | undefined,
  expected: TableContent | undefined,
): Promise<TableProof> {
  if (!columns)
    return { table, rows: -1, expected: expected?.rows ?? 0, equal: false, compared: false, digest: '' };
  const { rows, digest } = await connection.content(table, columns);
  const equal = expected === undefined || (expected.rows === rows && expected.digest === digest);
  return { table, rows, expected: expected?.rows ?? rows, equal, compared: expected !== undefined, digest };
}

/** What of a proof stops the move. */
export function proofFindings(tables: readonly TableProof[], { name }: DatabaseEnd): Finding[] {
  const remedy = 'Run "able-porter deliver --again"; if it stays so, the server changes what it stores';
  return tables
    .filter(({ equal }) => !equal)
    .map(({ table, rows, expected }) => {
      const place = `${name}, table ${table}`;
      return rows < 0
        ? finding({
            level: 'stop',
            code: 'table-missing',
            place,
            what: `The table is missing, although its ${expected} rows were sent`,
            remedy,
          })
        : finding({
            level: 'stop',
            code: 'table-different',
            place,
            what: `Read back, its rows differ from those that were sent (${rows} of ${expected})`,
            remedy,
          });
    });
}
