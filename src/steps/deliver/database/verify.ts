import type { TableContent } from '../../../core/database/content-digest.js';
import { DumpContent, type Program } from '../../../core/database/dump-content.js';
import type { Finding } from '../../../core/findings.js';
import type { Column } from '../../../core/sql/column.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import { columnsOf } from '../../../ends/database/server/catalog.js';
import { contentOf } from '../../../ends/database/server/content.js';
import {
  type DatabaseSession,
  type DatabaseWay,
  withDatabase,
} from '../../../ends/database/server/session.js';
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
  /** Rows that these edits took away. */
  readonly taken?: number;
}

/** What was proved of a load before the site's edits, kept so that a broken-off delivery need not read all again. */
export interface Proof {
  readonly dump: string;
  readonly tables: readonly TableProof[];
  readonly programs: readonly Program[];
}

const proofFile = 'results/loaded.json';

/** Forgets what was proved of an earlier load: it says nothing of the next. */
export async function forgetProof({ move }: StepRun): Promise<void> {
  await move.folder.write(proofFile, '{}');
}

/** Reads every table back and compares it with the dump, unless that was done for this load before. */
export async function proved(run: StepRun, way: DatabaseWay, part: CratePart): Promise<Proof> {
  const { folder, crate } = run.move;
  const before = JSON.parse((await folder.read(proofFile)) ?? '{}') as Partial<Proof>;
  if (before.dump === part.sha256 && before.tables) return before as Proof;
  const all = await withDatabase(way, columnsOf);
  const columns = new Map([...all.keys()].map(table => [table, own(all, table)]));
  const expected = new DumpContent(columns);
  const progress = (done: number) =>
    run.events({ type: 'progress', what: 'reading the dump again', done, of: part.bytes, unit: 'bytes' });
  await readDump(crate.at(movedDump), expected, { signal: run.signal, progress });
  const tables: TableProof[] = [];
  const wanted = [...expected.contents()];
  await withDatabase(way, async session => {
    await asWritten(session, expected);
    for (const [i, [table, content]] of wanted.entries()) {
      run.signal.throwIfAborted();
      run.events({ type: 'progress', what: table, done: i, of: wanted.length, unit: 'tables' });
      tables.push(await proofOf(session, table, columns.get(table), content));
    }
  });
  const proof: Proof = { dump: part.sha256, tables, programs: expected.programs };
  await folder.write(proofFile, JSON.stringify(proof));
  return proof;
}

/** Lets the server speak as the dump was written. */
export async function asWritten(session: DatabaseSession, { charset, timeZone }: DumpContent): Promise<void> {
  await session.run(`SET NAMES ${charset ?? 'utf8mb4'}`);
  if (timeZone !== undefined) await session.run(`SET SESSION time_zone = '${timeZone}'`);
}

async function proofOf(
  session: DatabaseSession,
  table: string,
  columns: readonly Column[] | undefined,
  expected: TableContent | undefined,
): Promise<TableProof> {
  if (!columns)
    return { table, rows: -1, expected: expected?.rows ?? 0, equal: false, compared: false, digest: '' };
  const { rows, digest } = await contentOf(session, table, columns);
  const equal = expected === undefined || (expected.rows === rows && expected.digest === digest);
  return { table, rows, expected: expected?.rows ?? rows, equal, compared: expected !== undefined, digest };
}

/** The columns of a table that hold values of their own. */
export function own(columns: ReadonlyMap<string, readonly Column[]>, table: string): readonly Column[] {
  return (columns.get(table) ?? []).filter(({ generated }) => !generated);
}

/** What of a proof stops the move. */
export function proofFindings(tables: readonly TableProof[], way: DatabaseWay): Finding[] {
  return tables
    .filter(({ equal }) => !equal)
    .map(({ table, rows, expected }) => ({
      level: 'stop' as const,
      code: rows < 0 ? ('table-missing' as const) : ('table-different' as const),
      place: `${way.place.name}, table ${table}`,
      what:
        rows < 0
          ? `The table is not there, though its ${expected} rows were sent`
          : `Read back, its rows are not those that were sent (${rows} of ${expected})`,
      remedy: 'Run "able-porter deliver --again"; if it stays so, the server changes what it stores',
    }));
}
