import { DefinerFree } from '../../../core/database/definer-free.js';
import type { Finding } from '../../../core/findings/findings.js';
import { parseSize } from '../../../core/text/sizes.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { Move } from '../../move/open.js';
import type { StepRun } from '../../move/step.js';
import { PartsFolder } from '../../rewrite/split-dump.js';
import { beside, openIncoming, type StagingPaths, stagingOf } from '../files/staging.js';

/** The pieces of the finished dump for a web panel. */
export interface StagedParts {
  readonly folder: string;
  readonly count: number;
  /** Bytes of the largest. */
  readonly largest: number;
}

/** The folder of the pieces, beside the finished dump. */
export function partsPlace({ newDump, sheet }: Move): FilesPlace | undefined {
  if (newDump === undefined || sheet.new.database?.parts === undefined) return undefined;
  return newDump.above.below(`${newDump.name.replace(/\.sql(?:\.gz)?$/, '')}.parts`);
}

/**
 * Cuts the finished dump into numbered pieces under the panel's limit, with a page that says how to load them.
 * @param tail statements after the dump
 */
export async function stageParts(
  run: StepRun,
  place: FilesPlace,
  tail: Buffer,
): Promise<{ staging: StagingPaths; parts: StagedParts; findings: Finding[] }> {
  const { move } = run;
  const asked = String(move.sheet.new.database!.parts);
  const limit = parseSize(asked, 'new.database.parts');
  const staging = stagingOf(move, place, beside);
  await staging.end.remove(staging.incoming);
  await staging.end.makeFolder(staging.incoming, 0o755);
  const parts = new PartsFolder(move.bench, openIncoming(staging), place.name.replace(/\.parts$/, ''), limit);
  const plain = new DefinerFree(move.bench, chunk => parts.push(Buffer.from(chunk)));
  const whole = {
    push: (chunk: Buffer) => plain.push(chunk),
    finish: () => {
      plain.finish();
      if (tail.length > 0) parts.push(tail);
      parts.finish();
    },
  };
  await readDump(move.bench, move.crate.at(movedDump), whole, {
    signal: run.signal,
    after: () => parts.settle(),
  });
  await parts.settle();
  await parts.writePage(
    asked,
    `When all are in, export the whole database from the panel (format SQL, also packed) and compare it:
   able-porter check --export FILE`,
  );
  const { largest, laid } = parts;
  return {
    staging,
    parts: { folder: place.text, count: laid.length, largest },
    findings: parts.findings(place.text, asked),
  };
}
