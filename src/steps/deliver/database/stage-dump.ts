import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { gzipSync } from 'node:zlib';
import { DumpEdits } from '../../../core/database/dump-edits.js';
import { DamageError } from '../../../core/errors.js';
import type { DataEdit } from '../../../core/site/data/data-edits.js';
import type { Family } from '../../../core/site/families/family.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import type { CrateManifest } from '../../../ends/move-folder/crate.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { Move } from '../../move/open.js';
import type { StepRun } from '../../move/step.js';
import { tablesOfCrate } from '../../move/tables.js';
import { newTableName, prefixChangeOf } from '../../move/terms.js';
import { placeIn, type StagingPaths } from '../files/staging.js';
import { type EditDone, editDone, editsWanted, noteHeld } from './site-data.js';

/** What is corrected in a dump that somebody else will load. */
export interface DumpTail {
  /** Statements to be put after the dump; empty for none. */
  readonly sql: Buffer;
  readonly edits: readonly EditDone[];
}

/** The edits of the site's data that a finished dump carries along. */
export function editsOfDump(move: Move, family: Family, manifest: CrateManifest): readonly DataEdit[] {
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  const tables = tablesOfCrate(move, manifest).own.map(({ table }) => newTableName(table, change));
  return editsWanted(move, family, change?.to ?? manifest.from.prefix ?? '', tables);
}

/** Computes what has to be put after the dump, so that the site is corrected once it is loaded. */
export async function tailOf(run: StepRun, family: Family, manifest: CrateManifest): Promise<DumpTail> {
  const edits = editsOfDump(run.move, family, manifest);
  if (edits.length === 0) return { sql: Buffer.alloc(0), edits: [] };
  const reader = new DumpEdits(run.move.bench, edits);
  await readDump(run.move.bench, run.move.crate.at(movedDump), reader, { signal: run.signal });
  const done = [...reader.done.values()];
  await noteHeld(
    run,
    done.flatMap(({ held }) => held),
  );
  return {
    sql: reader.tail(),
    edits: done.map(({ edit, rows, first, held }) => editDone(edit, rows, first, held)),
  };
}

/** Puts the finished dump beside its place: the rewritten one, with its tail as a second gzip file at its end. */
export async function stageDump(run: StepRun, staging: StagingPaths, { sql }: DumpTail): Promise<number> {
  const hash = createHash('sha256');
  let bytes = 0;
  const whole = async function* () {
    for await (const chunk of createReadStream(run.move.crate.at(movedDump))) yield chunk as Buffer;
    if (sql.length > 0) yield gzipSync(sql);
  };
  const hashed = async function* () {
    for await (const chunk of whole()) {
      hash.update(chunk);
      bytes += chunk.length;
      yield chunk;
    }
  };
  await staging.end.write(staging.incoming, hashed(), { mode: 0o600, mtime: Date.now() });
  run.signal.throwIfAborted();
  const sums = await staging.end.checksums([staging.incoming], run.signal);
  if (sums.get(staging.incoming) === hash.digest('hex')) return bytes;
  throw new DamageError({
    doing: `Writing ${placeIn(staging, staging.incoming)}`,
    cause: 'it is not what was written',
    remedy: 'Check the disk, then run the command again',
  });
}
