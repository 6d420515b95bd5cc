import { asBytes, textOf } from '../../core/bytes.js';
import type { Family } from '../../core/site/families/family.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { ledgerOf } from '../move/ledger.js';
import { type FindingLog, noteDeed, type StepRun } from '../move/step.js';
import type { TransferMethod } from '../transfer/transfer.js';
import type { Deliverer } from './deliverer.js';
import { type EditedFile, editedAbove, editedSince, placeAbove } from './files/edited-since.js';
import { clearOwnFolder, fetchableFindings } from './files/own-folder.js';
import { publishTree } from './files/publish-tree.js';
import { listStandingTree, type StagedTree, stageTree, type TreeOptions } from './files/stage-tree.js';
import { stagingOf } from './files/staging.js';
import { openStaging, swapIn } from './files/swap.js';
import { rootNotRenamable } from './files/swap-entries.js';
import { planFromCrate, stageAbove, stageFile, traceOfSetUp } from './site/apply.js';
import type { Configured, SetUp } from './site/plan-configuration.js';

/** The result of a delivery of files. */
export interface DeliveredFiles {
  readonly place: string;
  readonly count: number;
  readonly bytes: number;
  /** Files that were there already, and by what that was seen. */
  readonly again: number;
  readonly comparedBy: 'checksum' | 'size and time';
  /** What was removed because the old site no longer has it. */
  readonly removed: number;
  readonly way: TransferMethod | undefined;
}

/** Delivers the crate's files with the configuration edited. */
export class FilesDeliverer implements Deliverer {
  private readonly run: StepRun;
  private readonly place: FilesPlace;
  private readonly family: Family;
  private readonly manifest: CrateManifest;
  private readonly options: TreeOptions;
  /** Whether what an earlier delivery put there is kept: somebody has written at the new site since. */
  keepsReplaced = false;
  private edited: readonly EditedFile[] | undefined;
  /** Those one folder above that somebody has changed. */
  private editedPlaces: ReadonlySet<string> = new Set();
  private staged:
    | { tree: StagedTree; above: Awaited<ReturnType<typeof stageAbove>>; setUp: SetUp }
    | undefined;

  constructor(
    run: StepRun,
    place: FilesPlace,
    { family, manifest, options }: { family: Family; manifest: CrateManifest; options: TreeOptions },
  ) {
    this.run = run;
    this.place = place;
    this.family = family;
    this.manifest = manifest;
    this.options = options;
  }

  /** Files that somebody has changed at the new site since the last delivery, and that this one would replace. */
  async changes(): Promise<readonly EditedFile[]> {
    const { run } = this;
    const staging = stagingOf(run.move, this.place, await ledgerOf(run.move));
    const above = await editedAbove(run);
    this.editedPlaces = new Set(above.map(({ path }) => placeAbove(this.place, textOf(path))));
    if (!(await listStandingTree(run, staging))) return above;
    this.edited = await editedSince(run, staging, this.family, this.options);
    return [...above, ...this.edited];
  }

  /** Whether putting it in place changes anything that visitors see. */
  get changesAnything(): boolean {
    const tree = this.staged?.tree;
    return tree !== undefined && (!tree.update || tree.files > tree.again || tree.gone.length > 0);
  }

  async stage(findings: FindingLog): Promise<void> {
    const { run, manifest } = this;
    const { crate } = run.move;
    const list = manifest.parts['files.ndjson'];
    if (list) await crate.verifyPart('files.ndjson', list);
    // Nothing is touched before all of it is known to stay inside.
    for await (const _ of crate.entries());
    const setUp = await planFromCrate(run.move, this.family, manifest);
    const own = setUp.files.filter(({ path }) => !path.startsWith('../'));
    const paths = own.map(({ path }) => asBytes(path));
    const staging = await openStaging(run, this.place);
    findings.add(...(await fetchableFindings(run, staging.folder)));
    if (findings.stops) {
      await staging.end.remove(staging.incoming);
      await clearOwnFolder(run.move, staging.folder);
      return;
    }
    const isListed = this.edited !== undefined;
    const tree = await stageTree(run, staging, new Set(paths), { ...this.options, isListed });
    for (const file of own) await stageFile(tree.incoming, asBytes(file.path), file);
    if (!tree.update) {
      // What was put into them since has changed their times.
      for (const entry of tree.above) await tree.incoming.finishFolder(entry.path, entry);
    }
    const unwanted = own.filter(({ after, path }) => after === undefined && tree.standing.has(asBytes(path)));
    findings.add(...tree.findings);
    const above = await stageAbove(run, setUp.files);
    findings.add(...setUp.findings);
    const gone = [...tree.gone, ...unwanted.map(({ path }) => asBytes(path))];
    this.staged = { tree: { ...tree, gone }, above, setUp };
  }

  async publish(findings: FindingLog): Promise<readonly string[]> {
    if (!this.staged) return [];
    const { tree, above } = this.staged;
    await noteDeed(this.run, 'deliver', { kind: 'set up', files: this.trace });
    const kept: string[] = [];
    for (const { staging } of above) {
      const keeps = this.editedPlaces.has(staging.place.text);
      kept.push(...(await swapIn(this.run, staging, { keeps })));
    }
    kept.push(...(await publishTree(this.run, tree, this.keepsReplaced)));
    const { stagedInside } = await ledgerOf(this.run.move);
    if (stagedInside.has(this.place.text)) findings.add(rootNotRenamable(this.place.text));
    return kept;
  }

  get result(): DeliveredFiles | undefined {
    if (!this.staged) return undefined;
    const { files, bytes, again, gone, way } = this.staged.tree;
    const comparedBy = this.options.byContent ? 'checksum' : 'size and time';
    // What was carried a moment ago is sent by this delivery as well.
    const { forerun } = this.run;
    const ahead = Math.min(again, forerun?.files ?? 0);
    return {
      place: this.place.text,
      count: files,
      bytes,
      again: again - ahead,
      comparedBy,
      removed: gone.length,
      way: ahead > 0 ? forerun!.way : way,
    };
  }

  get setUp(): SetUp | undefined {
    return this.staged?.setUp;
  }

  get configuration(): Configured | undefined {
    const setUp = this.staged?.setUp;
    if (setUp?.configuration === undefined) return undefined;
    return { file: this.place.below(setUp.configuration).text, changed: setUp.changed };
  }

  /** What the journal keeps of files that were set up. */
  get trace(): Record<string, string> {
    if (!this.staged) return {};
    const above = this.staged.above.map(({ path, sha256 }) => [path, sha256]);
    return { ...traceOfSetUp(this.staged.setUp), ...Object.fromEntries(above) };
  }
}
