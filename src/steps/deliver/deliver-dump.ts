import type { Family } from '../../core/site/families/family.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import type { FindingLog, StepRun } from '../move/step.js';
import type { EditDone } from './database/site-data.js';
import { type DumpTail, stageDump, tailOf } from './database/stage-dump.js';
import { partsPlace, type StagedParts, stageParts } from './database/stage-parts.js';
import type { Deliverer } from './deliverer.js';
import { clearOwnFolder, makeOwnFolder } from './files/own-folder.js';
import { beside, type StagingPaths, stagingOf } from './files/staging.js';
import { swapIn } from './files/swap.js';

/** A finished dump that was left for somebody to load. */
export interface DeliveredDump {
  readonly file: string;
  readonly bytes: number;
  /** What is corrected once it is loaded. */
  readonly edits: readonly EditDone[];
}

/** Leaves the finished dump, and its pieces for a web panel where the sheet wants them. */
export class DumpDeliverer implements Deliverer {
  private readonly run: StepRun;
  private readonly place: FilesPlace;
  private readonly family: Family;
  private readonly manifest: CrateManifest;
  private staged: { dump: StagingPaths; tail: DumpTail; bytes: number } | undefined;
  private stagedParts: { staging: StagingPaths; parts: StagedParts } | undefined;

  constructor(
    run: StepRun,
    place: FilesPlace,
    { family, manifest }: { family: Family; manifest: CrateManifest },
  ) {
    this.run = run;
    this.place = place;
    this.family = family;
    this.manifest = manifest;
  }

  async stage(findings: FindingLog): Promise<void> {
    const dump = stagingOf(this.run.move, this.place, beside);
    await makeOwnFolder(this.run, dump.folder);
    const tail = await tailOf(this.run, this.family, this.manifest);
    this.staged = { dump, tail, bytes: await stageDump(this.run, dump, tail) };
    const place = partsPlace(this.run.move);
    if (place === undefined) return;
    const { findings: seen, ...staged } = await stageParts(this.run, place, tail.sql);
    this.stagedParts = staged;
    findings.add(...seen);
  }

  async publish(): Promise<readonly string[]> {
    const kept: string[] = [];
    if (this.stagedParts) kept.push(...(await swapIn(this.run, this.stagedParts.staging)));
    if (this.staged) kept.push(...(await swapIn(this.run, this.staged.dump)));
    await clearOwnFolder(this.run.move, this.place.above);
    return kept;
  }

  get result(): DeliveredDump | undefined {
    if (!this.staged) return undefined;
    return { file: this.place.text, bytes: this.staged.bytes, edits: this.staged.tail.edits };
  }

  get parts(): StagedParts | undefined {
    return this.stagedParts?.parts;
  }
}
