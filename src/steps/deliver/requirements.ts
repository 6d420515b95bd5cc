import { EndError } from '../../core/errors.js';
import { type Finding, saysStop } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import { requirementsOf } from '../../core/site/survey/requirements.js';
import type { SeenServer } from '../../ends/database/database-end.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { newDatabaseOf, serverSeen } from '../move/databases.js';
import { ledgerOf } from '../move/ledger.js';
import { lookAtSite } from '../move/read-site.js';
import type { StepRun } from '../move/step.js';
import { charsetFindings } from '../survey/database-server.js';
import { existingFolder } from '../survey/place.js';
import { probeLanguage } from '../survey/probe.js';

/**
 * What the site cannot do without and the new end lacks: a delivery stops for what the survey stops for, also where none was
 * made. Asked before the first delivery only. @param probes whether the sheet's `new.probe` may write its file there
 */
export async function requirementFindings(
  run: StepRun,
  family: Family,
  manifest: CrateManifest,
  { probes } = { probes: true },
): Promise<Finding[]> {
  const { move } = run;
  const { newFiles, crate } = move;
  if (newFiles && (await ledgerOf(move)).delivered.has(newFiles.text)) return [];
  const { counts } = manifest;
  const [{ version }, room, server, probed] = await Promise.all([
    lookAtSite({ files: crate.files, above: crate.above }, move.oldAddress),
    newFiles && existingFolder(newFiles.above).then(folder => folder.open().room()),
    serverIfThere(run),
    probes && newFiles && counts.files > 0 ? probeLanguage(run) : undefined,
  ]);
  const { findings } = requirementsOf({
    family: family.name,
    version,
    extensions: family.extensions,
    take: counts,
    place: newFiles && {
      path: newFiles.text,
      // What cannot be written or renamed shows when it is tried, and changes nothing.
      writable: true,
      renames: true,
      links: true,
      freeBytes: room?.bytes,
      freeFiles: room?.files,
    },
    web: undefined,
    language: probed?.language,
    fits: move.newLive,
    // The rights are tried out by the delivery itself.
    database: server && { ...server, missingRights: [] },
    dump: undefined,
  });
  const all = [...findings, ...(probed?.findings ?? []), ...(server ? charsetFindings(move, server) : [])];
  return all.filter(one => saysStop([one]));
}

/** The new server, where it can be asked; where it refuses, the delivery says why. */
async function serverIfThere({ move }: StepRun): Promise<SeenServer | undefined> {
  const database = move.newLive ? newDatabaseOf(move) : undefined;
  try {
    return await database?.use(connection => serverSeen(move, connection));
  } catch (error) {
    if (error instanceof EndError) return undefined;
    throw error;
  }
}
