import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { PassThrough } from 'node:stream';
import { createGzip } from 'node:zlib';
import { DefinerFree } from '../../../core/database/definer-free.js';
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

/**
 * Puts the finished dump beside its place: the rewritten one with its tail, fitted to an account with no special rights, packed
 * where its name says so.
 */
export async function stageDump(run: StepRun, staging: StagingPaths, { sql }: DumpTail): Promise<number> {
  const { bench, crate } = run.move;
  const hash = createHash('sha256');
  let bytes = 0;
  const out = staging.place.name.endsWith('.gz') ? createGzip() : new PassThrough();
  const dump = new DefinerFree(bench, chunk => out.write(Buffer.from(chunk)));
  const filling = (async () => {
    try {
      const after = async () => {
        if (out.writableNeedDrain) await once(out, 'drain', { signal: run.signal });
      };
      await readDump(bench, crate.at(movedDump), dump, { signal: run.signal, after });
      out.end(sql);
    } catch (error) {
      out.destroy(error as Error);
    }
  })();
  const hashed = async function* () {
    for await (const chunk of out as AsyncIterable<Buffer>) {
      hash.update(chunk);
      bytes += chunk.length;
      yield chunk;
    }
  };
  await staging.end.write(staging.incoming, hashed(), { mode: 0o600, mtime: Date.now() });
  await filling;
  run.signal.throwIfAborted();
  const sums = await staging.end.checksums([staging.incoming], run.signal);
  if (sums.get(staging.incoming) === hash.digest('hex')) return bytes;
  throw new DamageError({
    doing: `Writing ${placeIn(staging, staging.incoming)}`,
    cause: 'it is not what was written',
    remedy: 'Check the disk, then run the command again',
  });
}
