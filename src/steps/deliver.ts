import { asBytes } from '../core/bytes.js';
import { UsageError } from '../core/errors.js';
import { type Finding, saysStop } from '../core/findings.js';
import { digestOf, stateOf, traceOfSecret } from '../core/journal.js';
import { familyNamed } from '../core/site/families/families.js';
import { placeBelow } from '../ends/files/place.js';
import { movedDump, movedFiles } from '../ends/move-folder/crate.js';
import type { CratePart } from '../ends/move-folder/crate-part.js';
import { type LoadedDatabase, loadDatabase } from './deliver/database/load.js';
import { ensurePassword, makeRoom } from './deliver/database/provision.js';
import { type EditDone, unmetWishes } from './deliver/database/site-data.js';
import { layDump, tailOf } from './deliver/database/stage-dump.js';
import { type LaidParts, layParts, partsPlace } from './deliver/database/stage-parts.js';
import { putTree } from './deliver/files/publish-tree.js';
import { type LayOptions, makeTreeReady, type ReadyTree } from './deliver/files/stage-tree.js';
import { type Spot, spotOf, withinOf } from './deliver/files/staging.js';
import { openSpot, swapIn } from './deliver/files/swap.js';
import { fittedOf, layAbove, layFile, planFromCrate, traceOfSetUp } from './deliver/site/apply.js';
import type { Configured } from './deliver/site/plan-configuration.js';
import { rulesOf } from './move/open.js';
import { doStep, readResult, type StepOutcome, type StepRun } from './move/step.js';
import { type RewriteResult, rewriteInputs } from './rewrite.js';
import { rootStays } from './survey/place.js';
import type { Way } from './transfer/transfer.js';

export interface DeliverResult {
  readonly files:
    | {
        readonly place: string;
        readonly count: number;
        readonly bytes: number;
        /** Files that were there already. */
        readonly again: number;
        /** What was taken away because the old site no longer has it. */
        readonly removed: number;
        readonly way: Way | undefined;
      }
    | undefined;
  readonly dump:
    | {
        readonly file: string;
        readonly bytes: number;
        /** What is set right once it is loaded. */
        readonly edits: readonly EditDone[];
      }
    | undefined;
  /** The same in pieces for a web panel. */
  readonly parts: LaidParts | undefined;
  /** What a load at the new server came to. */
  readonly database: LoadedDatabase | undefined;
  readonly configuration: Configured | undefined;
  /** Files of the web server that were fitted to the new path or address. */
  readonly fitted: readonly string[];
  /** How often each of the sheet's own edits was carried out. */
  readonly edits: readonly number[];
  /** Where what stood at the new end is kept. */
  readonly keepsakes: readonly string[];
}

/**
 * Puts files, configuration and the finished dump at the new end. All of it is first made ready beside its final
 * place and then put there by renaming; what stood there becomes the keepsake.
 */
export async function deliver(
  run: StepRun,
  options: LayOptions = { byContent: false, mirror: false, sample: false },
): Promise<StepOutcome<DeliverResult>> {
  const { move } = run;
  const { crate } = move;
  if (!move.newFiles && !move.newDump && !move.newLive) {
    throw new UsageError({
      doing: 'Delivering the crate',
      cause: 'the sheet names no place at the new end',
      remedy: 'Give new.files, new.database.server or new.database.dump',
    });
  }
  const manifest = await crate.manifest();
  const family = familyNamed(manifest.from.family);
  const moved =
    manifest.tables.length > 0 && (move.newDump || move.newLive) ? await movedPart(run) : undefined;
  if (moved && move.newLive) await ensurePassword(move);
  // Who asks for these wants what stands there looked at, whatever the journal says.
  const again = run.again || options.byContent || options.mirror;
  return doStep({ ...run, again }, 'deliver', await deliverInputs(run), async () => {
    const findings: Finding[] = unmetWishes(move.sheet, family);
    // Before anything is carried: credentials that are wrong are better known now.
    const made = moved && move.newLive ? await makeRoom(run) : [];
    const keepsakes: string[] = [];
    const ready: Spot[] = [];
    let dump: Spot | undefined;
    let parts: LaidParts | undefined;
    let dumpBytes = 0;
    let dataEdits: readonly EditDone[] = [];
    let tree: ReadyTree | undefined;
    let configuration: Configured | undefined;
    let fitted: string[] = [];
    let edits: readonly number[] = [];
    let trace: Record<string, string> = {};
    if (move.newFiles && manifest.counts.files + manifest.counts.folders > 0) {
      await crate.verifyPart('files.ndjson', manifest.parts['files.ndjson']!);
      const setUp = await planFromCrate(move, family, manifest);
      const own = setUp.files.filter(({ path }) => !path.startsWith('../'));
      const paths = own.map(({ path }) => asBytes(path));
      const spot = await openSpot(run, move.newFiles);
      tree = await makeTreeReady(run, spot, new Set(paths), options);
      for (const file of own) await layFile(tree.incoming, asBytes(file.path), file);
      if (!tree.update) {
        // What was put into them since has changed their times.
        for (const entry of tree.above) await tree.incoming.finishFolder(entry.path, entry);
      }
      const { standing } = tree;
      const unwanted = own.filter(({ after, path }) => after === undefined && standing.has(asBytes(path)));
      tree = { ...tree, gone: [...tree.gone, ...unwanted.map(({ path }) => asBytes(path))] };
      findings.push(...tree.findings);
      ready.push(...(await layAbove(move, setUp.files)));
      configuration =
        setUp.configuration === undefined
          ? undefined
          : { file: placeBelow(move.newFiles, setUp.configuration), changed: setUp.changed };
      fitted = fittedOf(setUp);
      edits = setUp.edits;
      trace = traceOfSetUp(setUp);
      findings.push(...setUp.findings);
    }
    if (moved && move.newDump) {
      const spot = spotOf(move, move.newDump, new Set());
      const tail = await tailOf(run, family, manifest);
      dumpBytes = await layDump(run, spot, tail);
      dataEdits = tail.edits;
      dump = spot;
      const place = partsPlace(move);
      if (place !== undefined) {
        const laid = await layParts(run, place, tail.sql);
        ready.push(laid.spot);
        parts = laid.parts;
        findings.push(...laid.findings);
      }
    }
    const load = moved && move.newLive ? await loadDatabase(run, family, manifest, moved, made) : undefined;
    findings.push(...(load?.findings ?? []));
    // Everything is ready; from here on it is a matter of renaming, unless the database is not as it should be.
    run.signal.throwIfAborted();
    const stopped = load !== undefined && saysStop(load.findings);
    if (stopped) {
      const nothing = {
        files: undefined,
        dump: undefined,
        parts: undefined,
        configuration: undefined,
        fitted: [],
        edits: [],
        keepsakes,
      };
      return { result: { ...nothing, database: load.loaded }, findings, brief: { keepsakes } };
    }
    for (const spot of ready) keepsakes.push(...(await swapIn(run, spot)));
    if (tree) keepsakes.push(...(await putTree(run, tree)));
    if (dump) keepsakes.push(...(await swapIn(run, dump)));
    if (tree && withinOf(await move.folder.readJournal()).has(tree.spot.place))
      findings.push(rootStays(tree.spot.place));
    const result: DeliverResult = {
      files: tree && {
        place: tree.spot.place,
        count: tree.files,
        bytes: tree.bytes,
        again: tree.again,
        removed: tree.gone.length,
        way: tree.way,
      },
      dump: dump && { file: move.newDump!, bytes: dumpBytes, edits: dataEdits },
      parts,
      database: load?.loaded,
      configuration,
      fitted,
      edits,
      keepsakes,
    };
    return {
      result,
      findings,
      brief: { files: result.files?.count, dump: moved?.sha256, keepsakes, setUp: trace },
    };
  });
}

/** What a delivery depends on. */
export async function deliverInputs({ move }: StepRun): Promise<unknown> {
  const { crate } = move;
  const { database } = move.sheet.new;
  return {
    crate: await crate.identity(),
    moved: (move.newDump || move.newLive) && (await crate.partIdentity(movedDump)),
    movedFiles: await crate.partIdentity(movedFiles),
    files: move.newFiles,
    dump: move.newDump,
    parts: move.sheet.new.database?.parts,
    database: database && {
      server: database.server,
      prefix: database.prefix,
      secret: traceOfSecret(database.password),
    },
    charset: database?.charset,
    pairs: rulesOf(move).pairs,
    configure: move.sheet.configure,
  };
}

/**
 * The rewritten dump of the crate, checked against what the rewriting noted.
 * @throws UsageError where it was not rewritten, or the crate or the sheet has changed since
 */
async function movedPart(run: StepRun): Promise<CratePart> {
  const { crate, folder } = run.move;
  const { state, record } = stateOf(await folder.readJournal(), 'rewrite');
  const part = (await readResult<RewriteResult>(folder, 'rewrite'))?.result.moved;
  const refuse = (cause: string) =>
    new UsageError({ doing: 'Delivering the crate', cause, remedy: 'Run "able-porter rewrite" first' });
  if (state !== 'done' || !part) throw refuse('its dump has not been rewritten yet');
  if (record?.inputs !== digestOf(await rewriteInputs(run))) {
    throw refuse('the crate or the sheet has changed since its dump was rewritten');
  }
  await crate.verifyPart(movedDump, part);
  return part;
}
