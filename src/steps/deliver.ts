import { setTimeout } from 'node:timers/promises';
import { UsageError } from '../core/errors.js';
import type { Finding } from '../core/findings/findings.js';
import { digestOf, traceOfSecret } from '../core/journal.js';
import { familyNamed } from '../core/site/families/families.js';
import type { Family } from '../core/site/families/family.js';
import type { CrateManifest } from '../ends/move-folder/crate.js';
import { movedDump, movedFiles } from '../ends/move-folder/crate.js';
import type { CratePart } from '../ends/move-folder/crate-part.js';
import { changesFindings, changesText } from './deliver/changes.js';
import type { LoadedDatabase } from './deliver/database/loaded.js';
import { settleRestoration } from './deliver/database/restore.js';
import { unmetWishes } from './deliver/database/site-data.js';
import type { StagedParts } from './deliver/database/stage-parts.js';
import { DatabaseDeliverer } from './deliver/deliver-database.js';
import { type DeliveredDump, DumpDeliverer } from './deliver/deliver-dump.js';
import { type DeliveredFiles, FilesDeliverer } from './deliver/deliver-files.js';
import { Gate } from './deliver/files/gate.js';
import { listKept } from './deliver/files/kept-files.js';
import { clearFolders } from './deliver/files/own-folder.js';
import type { TreeOptions } from './deliver/files/stage-tree.js';
import { settleExchanges } from './deliver/files/swap.js';
import { requirementFindings } from './deliver/requirements.js';
import { type Difference, differences, fittedOf } from './deliver/site/apply.js';
import type { Configured } from './deliver/site/plan-configuration.js';
import { type FilesTrial, type TablesTrial, tryFiles, tryTables } from './deliver/trial.js';
import { ledgerOf } from './move/ledger.js';
import { refuseClosed } from './move/life.js';
import { doStep, FindingLog, noteDeed, readResult, type StepOutcome, type StepRun } from './move/step.js';
import { crateTablesFindings, tablesOfCrate } from './move/tables.js';
import { rulesOf } from './move/terms.js';
import { SideBySide } from './overlap/side-by-side.js';
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
  /** How long it took to put everything in its place, and how long visitors saw a maintenance page, in seconds. */
  readonly swap: { readonly seconds: number; readonly closed: number } | undefined;
}

/** How a delivery is done. */
export interface DeliverOptions extends TreeOptions {
  /** Replace what the new site has written since the last delivery; it is kept. */
  readonly replaceChanges?: boolean;
  /** Deliver although the new end lacks what the site needs. */
  readonly despiteRequirements?: boolean;
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
  options: DeliverOptions = { byContent: false, mirror: false, sample: false },
): Promise<StepOutcome<DeliverResult>> {
  const { move } = run;
  refuseNowhere(run);
  await refuseClosed(run.move, 'Delivering the crate');
  await settleExchanges(run);
  await settleRestoration(run);
  const manifest = await move.crate.manifest();
  const family = familyNamed(manifest.from.family);
  const stops = crateTablesFindings(move, manifest);
  const wantsDump =
    stops.length === 0 && manifest.tables.length > 0 && (move.newDump !== undefined || move.newLive);
  const part = wantsDump ? await movedPart(run) : undefined;
  const side = new SideBySide(run);
  const delivery = deliveryOf(side, { manifest, family, part, options });
  const { files, database } = delivery;
  // Who asks for these wants what is there looked at, whatever the journal says.
  const again = run.again || options.byContent || options.mirror || options.replaceChanges === true;
  return doStep({ ...run, again }, 'deliver', await inputsOf(run, part?.sha256), async findings => {
    findings.add(...stops, ...unmetWishes(move.sheet, family));
    const nothing = { result: nothingDelivered(undefined), brief: { keepsakes: [] } };
    if (findings.stops) return nothing;
    if (!options.despiteRequirements) findings.add(...(await requirementFindings(run, family, manifest)));
    if (findings.stops) return nothing;
    const changes = await side.all({
      files: files && (() => files.changes()),
      database:
        database &&
        (async () => {
          await database.prepare();
          return database.changes();
        }),
    });
    findings.add(...(await changesFindings(move, changes, options.replaceChanges === true)));
    if (findings.stops) return nothing;
    const isWritten = changesText(changes) !== undefined;
    if (files) files.keepsReplaced = isWritten;
    if (database) database.keepsReplaced = isWritten;
    const [ofFiles, ofDatabase] = [findings.part(), findings.part()];
    await side.all({
      files: async () => {
        for (const one of [files, delivery.dump]) await one?.stage(ofFiles);
      },
      database: database && (() => database.stage(ofDatabase)),
    });
    // Everything is ready; from here on it is a matter of renaming, unless something is not as it should be.
    run.signal.throwIfAborted();
    if (findings.stops) return { result: nothingDelivered(delivery.database), brief: { keepsakes: [] } };
    const { keepsakes, swap } = await publish(run, family, delivery, findings);
    await clearFolders(move);
    await listKept(run, 'deliver');
    const result = { ...resultOf(delivery, keepsakes), swap };
    const setUp = delivery.files?.trace ?? {};
    return { result, brief: { files: result.files?.count, dump: part?.sha256, keepsakes, setUp } };
  });
}

/** What a delivery would do. Nothing is written at the new end. */
export interface DeliveryTrial {
  readonly dryRun: true;
  readonly files: FilesTrial | undefined;
  readonly tables: TablesTrial | undefined;
  /** False where the dump is not rewritten as the sheet is now: what the new site wrote into its tables was not looked for. */
  readonly isRewritten: boolean;
  /** The finished dump that would be left for somebody to load. */
  readonly dump: { readonly place: string; readonly tables: number } | undefined;
  /** Changes to the configuration and the web server's files; undefined where no files are delivered. */
  readonly differences: readonly Difference[] | undefined;
  readonly findings: readonly Finding[];
}

/** Counts what a delivery would put at the new end, and finds what would stop it, as far as looking shows it. */
export async function tryDelivery(run: StepRun, options: DeliverOptions): Promise<DeliveryTrial> {
  const { move } = run;
  refuseNowhere(run);
  await refuseClosed(move, 'Delivering the crate');
  const manifest = await move.crate.manifest();
  const family = familyNamed(manifest.from.family);
  const findings = new FindingLog(run.events);
  findings.add(...crateTablesFindings(move, manifest), ...unmetWishes(move.sheet, family));
  findings.add(...(await requirementFindings(run, family, manifest, { probes: false })));
  const tables = await tryTables(run, family, manifest);
  findings.add(...(tables?.findings ?? []));
  const wantsPart = move.newLive && manifest.tables.length > 0;
  const part = wantsPart ? (await rewrittenPart(run)).part : undefined;
  const side = new SideBySide(run);
  const { files, database } = deliveryOf(side, { manifest, family, part, options });
  const changes = await side.all({
    files: files && (() => files.changes()),
    database: tables && database && (() => database.changesSeen()),
  });
  findings.add(...(await changesFindings(move, changes, options.replaceChanges === true)));
  const place = files && move.newFiles;
  return {
    dryRun: true,
    files: place && (await tryFiles(run, place)),
    tables: tables?.tables,
    isRewritten: !wantsPart || part !== undefined,
    dump: move.newDump && { place: move.newDump.text, tables: tablesOfCrate(move, manifest).own.length },
    differences: place && (await differences(run, false)),
    findings: findings.all,
  };
}

/**
 * Puts all parts in their places: the database first, then what asks it, behind a maintenance page where a site is there
 * that visitors may use.
 */
async function publish(
  run: StepRun,
  family: Family,
  { files, dump, database }: Delivery,
  findings: FindingLog,
): Promise<{ keepsakes: string[]; swap: DeliverResult['swap'] }> {
  const { newFiles } = run.move;
  const changes = files?.changesAnything || database?.changesAnything;
  if (changes) await noteDeed(run, 'deliver', { kind: 'changing' });
  const gate = changes && newFiles ? await Gate.at(run, newFiles, family) : undefined;
  const keepsakes: string[] = [];
  const closedAt = performance.now();
  try {
    if (gate) {
      await gate.close();
      await setTimeout(gate.delay, undefined, { signal: run.signal });
      await database?.waitForOthers();
    }
    const swapsAt = performance.now();
    for (const one of [database, files]) if (one) keepsakes.push(...(await one.publish(findings)));
    const swappedAt = performance.now();
    await gate?.open();
    const closed = gate ? performance.now() - closedAt : 0;
    if (dump) keepsakes.push(...(await dump.publish()));
    const swap = { seconds: (swappedAt - swapsAt) / 1000, closed: closed / 1000 };
    return { keepsakes, swap: files || database ? swap : undefined };
  } catch (error) {
    const text =
      'The new site shows its maintenance page until the delivery is finished: run "able-porter deliver" again.';
    if (gate) run.events({ type: 'message', text });
    throw error;
  }
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
  side: SideBySide,
  known: {
    readonly family: Family;
    readonly manifest: CrateManifest;
    readonly options: DeliverOptions;
    readonly part: CratePart | undefined;
  },
): Delivery {
  const [run, ofDatabase] = [side.runOf('files'), side.runOf('database')];
  const { newFiles, newDump, newLive } = run.move;
  const { manifest, part } = known;
  const hasFiles = manifest.counts.files + manifest.counts.folders > 0;
  return {
    files: newFiles && hasFiles ? new FilesDeliverer(run, newFiles, known) : undefined,
    dump: newDump && part ? new DumpDeliverer(run, newDump, known) : undefined,
    database: newLive && part ? new DatabaseDeliverer(ofDatabase, { ...known, part }) : undefined,
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
    swap: undefined,
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
  const { part, cause } = await rewrittenPart(run);
  if (!part)
    throw new UsageError({ doing: 'Delivering the crate', cause, remedy: 'Run "able-porter rewrite" first' });
  await run.move.crate.verifyPart(movedDump, part);
  return part;
}

/** What the rewriting noted of its dump, or why that dump cannot be delivered. */
async function rewrittenPart(
  run: StepRun,
): Promise<{ part: CratePart; cause?: undefined } | { part?: undefined; cause: string }> {
  const { state, record } = (await ledgerOf(run.move)).stateOf('rewrite');
  const part = (await readResult<RewriteResult>(run.move.folder, 'rewrite'))?.result.moved;
  if (state !== 'done' || !part) return { cause: 'its dump has not been rewritten yet' };
  return record?.inputs === digestOf(await rewriteInputs(run))
    ? { part }
    : { cause: 'the crate or the sheet has changed since its dump was rewritten' };
}
