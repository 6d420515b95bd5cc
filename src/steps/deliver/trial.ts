import { isReserved } from '../../core/database/reserved-names.js';
import { EndError } from '../../core/errors.js';
import { alongside } from '../../core/files/order.js';
import type { Finding } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import type { FilesPlace } from '../../ends/files/place.js';
import { type CrateManifest, movedFiles } from '../../ends/move-folder/crate.js';
import { readEntryList } from '../../ends/move-folder/entry-list.js';
import { newDatabaseOf } from '../move/databases.js';
import { ledgerOf } from '../move/ledger.js';
import {
  incomingTables,
  noSwapFinding,
  replacementFindings,
  replacementIn,
  swapObstacle,
} from '../move/replacement.js';
import type { StepRun } from '../move/step.js';
import { tablesOfCrate } from '../move/tables.js';
import { sameTime } from '../transfer/verify.js';
import { standingTree, wantedAt } from './files/stage-tree.js';

/** Files that a delivery would transfer. */
export interface FilesTrial {
  readonly place: string;
  readonly files: number;
  readonly bytes: number;
  /** How many of them an earlier delivery put there, with the same size and time. */
  readonly same: number;
}

/** Tables that a delivery would load. */
export interface TablesTrial {
  readonly place: string;
  readonly tables: number;
  readonly rows: number;
  /** The tables there whose places they would take. */
  readonly replaced: readonly string[];
  /** Whether this move has delivered there before: then only what changed is put there. */
  readonly update: boolean;
  /** How many other tables would stay as they are, without those that this move keeps there. */
  readonly stay: number;
}

/** Counts the files of the crate, against what `listStandingTree` saw at the place. */
export async function tryFiles({ move }: StepRun, place: FilesPlace): Promise<FilesTrial> {
  const { crate, folder } = move;
  const end = place.open();
  let [files, bytes, same] = [0, 0, 0];
  for await (const { taken, moved, standing } of alongside({
    taken: crate.entries(),
    moved: crate.entries(movedFiles),
    standing: readEntryList(folder.at(standingTree), { ofEnd: true }),
  })) {
    for (const { type, path, size, mtime } of wantedAt(end, taken, moved)) {
      if (type !== 'file') continue;
      files++;
      bytes += size;
      const here = standing.get(path);
      if (here?.size === size && sameTime(end, here.mtime, mtime)) same++;
    }
  }
  return { place: place.text, files, bytes, same };
}

/** Looks at the new database, as it is, for the tables of the crate. Undefined where nothing is loaded into it. */
export async function tryTables(
  { move }: StepRun,
  family: Family,
  manifest: CrateManifest,
): Promise<{ readonly tables: TablesTrial; readonly findings: readonly Finding[] } | undefined> {
  const database = move.newLive ? newDatabaseOf(move) : undefined;
  const { own } = tablesOfCrate(move, manifest);
  if (!database || own.length === 0) return undefined;
  const incoming = incomingTables(move, family, manifest);
  const counted = {
    place: database.text,
    tables: own.length,
    rows: own.reduce((sum, { rows }) => sum + rows, 0),
    update: (await ledgerOf(move)).firstOf(database.id) !== undefined,
  };
  try {
    return await database.use(async connection => {
      const replacement = await replacementIn(move, connection, incoming);
      const { there, replaced } = replacement;
      const obstacle = swapObstacle(move, replacement, []);
      const tables = {
        ...counted,
        replaced: replaced.map(({ name }) => name),
        stay: there.filter(({ name }) => !isReserved(name)).length - replaced.length,
      };
      const findings = await replacementFindings(move, database, connection, replacement, incoming);
      if (obstacle !== undefined) findings.push(noSwapFinding(database, obstacle));
      return { tables, findings };
    });
  } catch (error) {
    // What is to be made by the delivery is empty now.
    const isToBeMade =
      error instanceof EndError &&
      (error.kind === 'no such database' || error.kind === 'credentials') &&
      move.sheet.new.database?.administrator !== undefined;
    if (!isToBeMade) throw error;
    return { tables: { ...counted, replaced: [], stay: 0 }, findings: [] };
  }
}
