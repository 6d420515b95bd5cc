import pMap from 'p-map';
import type { TableContent } from '../../../core/database/content/content-digest.js';
import { DumpContent, type Program } from '../../../core/database/content/dump-content.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { Column } from '../../../core/sql/column.js';
import type { DatabaseConnection, DatabaseEnd, PrintedContent } from '../../../ends/database/database-end.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { CratePart } from '../../../ends/move-folder/crate-part.js';
import type { StepRun } from '../../move/step.js';
import { type DeliveredState, StateFolder } from './delivered-state.js';
import { PieceFile } from './piece-file.js';

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
  /** What the server computes of it; undefined where it computes nothing. */
  readonly checksum?: string | undefined;
}

/** What was read back of a load before the site's edits, kept so that an interrupted delivery need not read all again. */
export interface Proof {
  readonly dump: string;
  readonly tables: readonly TableProof[];
  readonly programs: readonly Program[];
  /** The character set and time zone of the dump, in which it was read. */
  readonly speaks: Pick<DumpContent, 'charset' | 'timeZone'>;
  /** How the dump makes its tables, and what else (see `DumpShapes`). */
  readonly shapes: { readonly tables: Readonly<Record<string, string>>; readonly programs: string };
}

const proofFile = 'results/loaded.json';
/** So many tables are asked for together; their rows come one table after the other. */
export const tablesAtOnce = 16;

/** Forgets what was read back of an earlier load: it says nothing about the next. */
export async function forgetProof({ move }: StepRun): Promise<void> {
  await move.folder.write(proofFile, '{}');
}

/** How the tables of a load are called while it is verified. */
export interface LoadedNames {
  /** The tables of the dump. */
  readonly tables: readonly string[];
  /** What such a table is called now. */
  of(table: string): string;
}

/**
 * Reads every table back and compares it with the dump, unless that was done for this load before. What was read is kept, to
 * see later what the new site has written.
 */
export async function verifyLoad(
  run: StepRun,
  database: DatabaseEnd,
  part: CratePart,
  names: LoadedNames,
): Promise<Proof> {
  const { folder, crate, bench } = run.move;
  const before = JSON.parse((await folder.read(proofFile)) ?? '{}') as Partial<Proof>;
  if (before.dump === part.sha256 && before.tables && before.programs && before.speaks)
    return before as Proof;
  const state = new StateFolder(run.move, 'staged');
  await state.begin();
  const { columns, keys } = await shapesOf(database, names);
  const memory = PieceFile.begin(run.move);
  const expected = new DumpContent(bench, { columns, keys, keepsPrints: false, memory });
  const progress = (done: number) =>
    run.events({ type: 'progress', what: 'reading the dump again', done, of: part.bytes, unit: 'bytes' });
  // The server computes meanwhile.
  const [, checksums] = await Promise.all([
    memory.during(() => readDump(bench, crate.at(movedDump), expected, { signal: run.signal, progress })),
    checksumsOf(database, names),
  ]);
  const tables: TableProof[] = [];
  const isLoaded = new Set(names.tables);
  const wanted = [...expected.contents()].filter(([table]) => isLoaded.has(table));
  const { charset, timeZone } = expected;
  await database.use(async connection => {
    let done = 0;
    const reading = () =>
      pMap(
        wanted,
        async ([table, content]) => {
          run.signal.throwIfAborted();
          const shape = { columns: columns.get(table), key: keys.get(table) ?? [] };
          const now = names.of(table);
          const { prints, ...proof } = await proofOf(connection, { table, now, ...shape }, content);
          if (prints) await state.writePrints(table, prints);
          done++;
          run.events({ type: 'progress', what: table, done, of: wanted.length, unit: 'tables' });
          return { ...proof, checksum: checksums.get(table) };
        },
        { concurrency: tablesAtOnce },
      );
    const [, proofs] = await Promise.all([connection.speakAs({ charset, timeZone }), reading()]);
    tables.push(...proofs);
  });
  const made = expected.made.found();
  const proof: Proof = {
    dump: part.sha256,
    tables,
    programs: expected.programs,
    speaks: { charset, timeZone },
    shapes: { tables: Object.fromEntries(made.tables), programs: made.programs },
  };
  await folder.write(proofFile, JSON.stringify(proof));
  return proof;
}

/** The columns and keys of the tables, by the names that they have in the dump. */
async function shapesOf(
  database: DatabaseEnd,
  { tables, of }: LoadedNames,
): Promise<{
  columns: ReadonlyMap<string, readonly Column[]>;
  keys: ReadonlyMap<string, readonly string[]>;
}> {
  return database.use(async connection => {
    const [columns, keys] = await Promise.all([connection.columns(), connection.keys()]);
    const there = tables.filter(table => columns.has(of(table)));
    return {
      columns: new Map(there.map(table => [table, columns.get(of(table))!])),
      keys: new Map(there.map(table => [table, keys.get(of(table)) ?? []])),
    };
  });
}

/** What the server computes of each table, by the names that they have in the dump. */
function checksumsOf(
  database: DatabaseEnd,
  { tables, of }: LoadedNames,
): Promise<ReadonlyMap<string, string>> {
  return database.use(async connection => {
    const sums = await connection.checksums(tables.map(of));
    return new Map(tables.flatMap(table => (sums.has(of(table)) ? [[table, sums.get(of(table))!]] : [])));
  });
}

/** Looks once more at tables that were edited since they were verified, and writes down what was loaded. */
export async function noteState(
  run: StepRun,
  database: DatabaseEnd,
  proof: Proof,
  names: LoadedNames,
  edited: ReadonlySet<string>,
): Promise<{ tables: TableProof[]; state: DeliveredState }> {
  const folder = new StateFolder(run.move, 'staged');
  const tables: TableProof[] = [];
  let state: DeliveredState | undefined;
  await database.use(async connection => {
    const [columns, keys, sums] = await Promise.all([
      connection.columns(),
      connection.keys(),
      connection.checksums([...edited].map(table => names.of(table))),
      connection.speakAs(proof.speaks),
    ]);
    const seen = await pMap(
      proof.tables,
      async one => {
        const now = names.of(one.table);
        const own = edited.has(one.table) ? columns.get(now) : undefined;
        if (!own) return one;
        const { rows, digest, prints } = await connection.content(now, own, keys.get(now) ?? []);
        if (prints) await folder.writePrints(one.table, prints);
        return { ...one, digest, taken: one.rows - rows, checksum: sums.get(now) };
      },
      { concurrency: tablesAtOnce },
    );
    tables.push(...seen);
    const at = new Date().toISOString();
    state = {
      database: database.id,
      dump: proof.dump,
      at,
      speaks: proof.speaks,
      tables: tables.map(({ table, rows, taken = 0, digest, checksum }) => ({
        table,
        rows: rows - taken,
        digest,
        checksum,
        key: keys.get(names.of(table)) ?? [],
        shape: proof.shapes.tables[table],
      })),
      programs: proof.shapes.programs,
    };
    await folder.finish(state);
  });
  return { tables, state: state! };
}

async function proofOf(
  connection: DatabaseConnection,
  {
    table,
    now,
    columns,
    key,
  }: {
    readonly table: string;
    readonly now: string;
    readonly columns: readonly Column[] | undefined;
    readonly key: readonly string[];
  },
  expected: TableContent | undefined,
): Promise<TableProof & Pick<PrintedContent, 'prints'>> {
  if (!columns) {
    const none = { rows: -1, equal: false, compared: false, digest: '', prints: undefined };
    return { table, expected: expected?.rows ?? 0, ...none };
  }
  const { rows, digest, prints } = await connection.content(now, columns, key);
  const equal = expected === undefined || (expected.rows === rows && expected.digest === digest);
  const compared = expected !== undefined;
  return { table, rows, expected: expected?.rows ?? rows, equal, compared, digest, prints };
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
