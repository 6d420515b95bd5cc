import { UsageError } from '../core/errors.js';
import { digestOf, traceOfSecret } from '../core/journal.js';
import { familyNamed } from '../core/site/families/families.js';
import { movedDump, movedFiles } from '../ends/move-folder/crate.js';
import type { CratePart } from '../ends/move-folder/crate-part.js';
import type { LoadedDatabase } from './deliver/database/loaded.js';
import { unmetWishes } from './deliver/database/site-data.js';
import type { StagedParts } from './deliver/database/stage-parts.js';
import { DatabaseDeliverer } from './deliver/deliver-database.js';
import { type DeliveredDump, DumpDeliverer } from './deliver/deliver-dump.js';
import { type DeliveredFiles, FilesDeliverer } from './deliver/deliver-files.js';
import type { Deliverer } from './deliver/deliverer.js';
import type { TreeOptions } from './deliver/files/stage-tree.js';
import { fittedOf } from './deliver/site/apply.js';
import type { Configured } from './deliver/site/plan-configuration.js';
import { ledgerOf } from './move/ledger.js';
import { doStep, readResult, type StepOutcome, type StepRun } from './move/step.js';
import { crateTablesFindings } from './move/tables.js';
import { rulesOf } from './move/terms.js';
import { type RewriteResult, rewriteInputs } from './rewrite.js';

export interface DeliverResult {
  readonly files: DeliveredFiles | undefined;
  readonly dump: DeliveredDump | undefined;
  /** The dump in pieces for a web panel. */
  readonly parts: StagedParts | undefined;
  /** The result of a load at the new server. */
  readonly database: LoadedDatabase | undefined;
  readonly configuration: Configured | undefined;
  /** Files of the web server that were fitted to the new path or address. */
  readonly fitted: readonly string[];
  /** How often each of the sheet's own edits was carried out. */
  readonly edits: readonly number[];
  /** Where what was at the new end before is kept. */
  readonly keepsakes: readonly string[];
}

/** The parts of a delivery, as far as the sheet and the crate have them. */
interface Delivery {
  readonly files: FilesDeliverer | undefined;
  readonly dump: DumpDeliverer | undefined;
  readonly database: DatabaseDeliverer | undefined;
}

/**
 * Puts files, configuration and database at the new end. All of it is first made ready beside its final place and
 * then put there; what was there becomes the keepsake.
 */
export async function deliver(
  run: StepRun,
  options: TreeOptions = { byContent: false, mirror: false, sample: false },
): Promise<StepOutcome<DeliverResult>> {
  const { move } = run;
  refuseNowhere(run);
  const manifest = await move.crate.manifest();
  const family = familyNamed(manifest.from.family);
  const stops = crateTablesFindings(move, manifest);
  const wantsDump =
    stops.length === 0 && manifest.tables.length > 0 && (move.newDump !== undefined || move.newLive);
  const part = wantsDump ? await movedPart(run) : undefined;
  const delivery = deliveryOf(run, { manifest, family, part, options });
  const parts: readonly Deliverer[] = [delivery.files, delivery.dump, delivery.database].filter(
    one => one !== undefined,
  );
  // Who asks for these wants what is there looked at, whatever the journal says.
  const again = run.again || options.byContent || options.mirror;
  return doStep({ ...run, again }, 'deliver', await inputsOf(run, part?.sha256), async findings => {
    findings.add(...stops, ...unmetWishes(move.sheet, family));
    if (findings.stops) return { result: nothingDelivered(undefined), brief: { keepsakes: [] } };
    for (const one of parts) await one.prepare?.();
    for (const one of parts) await one.stage(findings);
    // Everything is ready; from here on it is a matter of renaming, unless something is not as it should be.
    run.signal.throwIfAborted();
    const keepsakes: string[] = [];
    if (findings.stops) return { result: nothingDelivered(delivery.database), brief: { keepsakes } };
    for (const one of parts) keepsakes.push(...(await one.publish(findings)));
    const result = resultOf(delivery, keepsakes);
    const setUp = delivery.files?.trace ?? {};
    return { result, brief: { files: result.files?.count, dump: part?.sha256, keepsakes, setUp } };
  });
}

function refuseNowhere({ move }: StepRun): void {
  if (move.newFiles || move.newDump || move.newLive) return;
  throw new UsageError({
    doing: 'Delivering the crate',
    cause: 'the sheet names no place at the new end',
    remedy: 'Give new.files, new.database.server or new.database.dump',
  });
}

function deliveryOf(
  run: StepRun,
  known: Pick<ConstructorParameters<typeof FilesDeliverer>[2], 'family' | 'manifest' | 'options'> & {
    readonly part: CratePart | undefined;
  },
): Delivery {
  const { newFiles, newDump, newLive } = run.move;
  const { manifest, part } = known;
  const hasFiles = manifest.counts.files + manifest.counts.folders > 0;
  return {
    files: newFiles && hasFiles ? new FilesDeliverer(run, newFiles, known) : undefined,
    dump: newDump && part ? new DumpDeliverer(run, newDump, known) : undefined,
    database: newLive && part ? new DatabaseDeliverer(run, { ...known, part }) : undefined,
  };
}

function resultOf({ files, dump, database }: Delivery, keepsakes: readonly string[]): DeliverResult {
  const setUp = files?.setUp;
  return {
    files: files?.result,
    dump: dump?.result,
    parts: dump?.parts,
    database: database?.result,
    configuration: files?.configuration,
    fitted: setUp ? fittedOf(setUp) : [],
    edits: setUp?.edits ?? [],
    keepsakes,
  };
}

/** The result where a finding says that nothing may be put in place. */
function nothingDelivered(database: DatabaseDeliverer | undefined): DeliverResult {
  return resultOf({ files: undefined, dump: undefined, database }, []);
}

/** What a delivery depends on. */
export async function deliverInputs(run: StepRun): Promise<unknown> {
  const { crate, newDump, newLive } = run.move;
  return inputsOf(run, newDump || newLive ? await crate.partIdentity(movedDump) : undefined);
}

async function inputsOf({ move }: StepRun, moved: string | undefined): Promise<unknown> {
  const { crate } = move;
  const { database } = move.sheet.new;
  return {
    crate: await crate.identity(),
    moved,
    movedFiles: await crate.partIdentity(movedFiles),
    files: move.newFiles?.text,
    dump: move.newDump?.text,
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
 * The rewritten dump of the crate, checked against what the rewriting noted. It is read and hashed here, once.
 * @throws UsageError where it was not rewritten, or the crate or the sheet has changed since
 */
async function movedPart(run: StepRun): Promise<CratePart> {
  const { crate, folder } = run.move;
  const { state, record } = (await ledgerOf(run.move)).stateOf('rewrite');
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
